"""A block sample of a table: what the entries of an index on it would look like.

Reads some hundred pages, chosen at random and the same ones each time, and writes nothing.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from psycopg import sql

from humble_ledger.core.costs.model import KeySample
from humble_ledger.core.schema.facts import IndexKey, TableName
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.one_statement import UserCursor
from humble_ledger.errors import HumbleError

ROWS_WANTED = 30_000
COMMON = 4  # pages of a sample, from which on a key is common
LEAST_PERCENT = 0.05
_ALIGNMENTS = {"c": 1, "s": 2, "i": 4, "d": 8}
_HEADER, _NULLS = 8, 8  # of an index entry; the map of its NULLs with padding


def sample_keys(
    connection: Connection,
    table: TableName,
    keys: Sequence[IndexKey],
    included: Sequence[str],
    predicate: str,
) -> KeySample | None:
    """Count entries and different keys in a sample; None where none can be taken.

    Expressions and the predicate are the server's own text; names go through the driver.
    """
    with translated():
        known = connection.execute(
            "SELECT c.reltuples, c.relkind FROM pg_catalog.pg_class c "
            "WHERE c.oid = pg_catalog.to_regclass(%s)::oid",
            (sql.Identifier(table.schema, table.name).as_string(connection),),
        ).fetchone()
    if known is None or known[1] not in ("r", "m") or known[0] <= 0:
        return None
    percent = min(100.0, max(LEAST_PERCENT, 100.0 * ROWS_WANTED / float(known[0])))
    texts = [_text(connection, key) for key in keys]
    texts += [sql.Identifier(name).as_string(connection) for name in included]
    source = sql.Identifier(table.schema, table.name).as_string(connection)
    try:
        with translated():
            types = _types(connection, source, texts)
            query = _query(source, texts, len(keys), types, predicate, percent)
            with UserCursor(connection) as cursor:
                row = cursor.execute(query.encode()).fetchone()
    except HumbleError:  # an expression may fail on some row; the prediction does without
        return None
    if row is None:
        return None
    common, rare = (
        tuple((int(rows), int(many)) for rows, many in found or ()) for found in row[5:7]
    )
    seen, kept, different, once = (int(row[n]) for n in range(4))
    places = int(row[7] or 0)
    alike = all(each.alike for each in types[: len(keys)])
    return KeySample(seen, kept, different, once, float(row[4] or 16), common, rare, places, alike)


def _text(connection: Connection, key: IndexKey) -> str:
    return sql.Identifier(key.column).as_string(connection) if key.column else key.expression


@dataclass(frozen=True, slots=True)
class _Type:
    """Length (below 0: it varies) and alignment of a value in bytes, and its type's name.

    ``alike``: equal values look the same, which `nbtdedup.c` asks for to keep them as one.
    """

    length: int = -1
    alignment: int = 4
    alike: bool = True
    name: str = ""


_TYPES_SQL = """
SELECT t.oid, t.typlen, t.typalign,
       t.typtype NOT IN ('r', 'm', 'c') AND t.typcategory <> 'A'
           AND t.typname NOT IN ('numeric', 'float4', 'float8', 'jsonb', 'interval'),
       pg_catalog.format_type(t.oid, NULL)
FROM pg_catalog.pg_type t WHERE t.oid = ANY(%s::oid[])
"""


def _types(connection: Connection, source: str, texts: Sequence[str]) -> list[_Type]:
    """The types of values that are columns of a table, or computed of these."""
    if not texts:
        return []
    with UserCursor(connection) as cursor:
        listed = ", ".join(texts)  # the driver's and the server's own text
        cursor.execute(f"SELECT {listed} FROM {source} LIMIT 0".encode())  # noqa: S608
        oids = [column.type_code for column in cursor.description or ()]
    rows = connection.execute(_TYPES_SQL, (oids,)).fetchall()
    found = {
        row[0]: _Type(int(str(row[1])), _ALIGNMENTS[str(row[2])], bool(row[3]), str(row[4]))
        for row in rows
    }
    return [found.get(oid, _Type()) for oid in oids]


def type_of(connection: Connection, table: TableName, expression: str) -> str:
    """The type of what is computed of a table's columns; "" where it cannot be computed."""
    source = sql.Identifier(table.schema, table.name).as_string(connection)
    try:
        with translated():
            return _types(connection, source, [expression])[0].name
    except HumbleError:
        return ""


def _ours(left: object, operator: str, right: object) -> str:
    """An operator of the server's own: names are looked for as the user does, for the keys."""
    return f"({left} OPERATOR(pg_catalog.{operator}) {right})"


def _up_to(length: str, alignment: int) -> str:
    """A length in bytes, up to the next multiple of an alignment."""
    whole = _ours(_ours(length, "+", alignment - 1), "/", alignment)
    return _ours(whole, "*", alignment)


def _query(
    source: str,
    texts: Sequence[str],
    keys: int,
    types: Sequence[_Type],
    predicate: str,
    percent: float,
) -> str:
    values = "".join(f", {text} AS k{n}" for n, text in enumerate(texts))
    nulls = " OR ".join(f"k{n} IS NULL" for n in range(len(texts))) or "false"
    # The length of an entry is walked column by column, each aligned to its type.
    walk, before = "", f"(CASE WHEN {nulls} THEN {_HEADER + _NULLS} ELSE {_HEADER} END)"
    for n, each in enumerate(types):
        length, alignment = each.length, each.alignment
        # Kept aside for the count, short values have the short header that an index gives them.
        grown = (
            _ours(_up_to(before, alignment), "+", length)
            if length > 0
            else _ours(before, "+", f"pg_catalog.pg_column_size(k{n})")
        )
        walk += (
            f" CROSS JOIN LATERAL (SELECT CASE WHEN k{n} IS NULL THEN {before} "
            f"ELSE {grown} END AS w{n}) AS s{n}"
        )
        before = f"w{n}"
    grouped = ", ".join(f"k{n}" for n in range(keys))
    group_by = f" GROUP BY {grouped}" if grouped else " GROUP BY ()"
    common = _ours("pages", ">=", COMMON)
    # Everything in it is a number, the server's own text, or quoted by the driver.
    return (
        f"WITH seen AS MATERIALIZED (SELECT coalesce(({predicate or 'true'}), false) AS kept, "  # noqa: S608
        f"((ctid::pg_catalog.text)::pg_catalog.point)[0] AS page"
        f"{values} FROM {source} TABLESAMPLE SYSTEM ({percent:.4f}) REPEATABLE (1)), "
        f"sized AS (SELECT *, {_up_to(before, 8)} AS bytes FROM seen{walk}), "
        "groups AS (SELECT pg_catalog.count(*) AS rows, pg_catalog.count(DISTINCT page) AS pages "
        f"FROM seen WHERE kept{group_by}) "
        "SELECT (SELECT pg_catalog.count(*) FROM seen), "
        "(SELECT pg_catalog.count(*) FROM seen WHERE kept), "
        "(SELECT pg_catalog.count(*) FROM groups), "
        f"(SELECT pg_catalog.count(*) FROM groups WHERE {_ours('pages', '=', 1)}), "
        "(SELECT pg_catalog.avg(bytes) FROM sized WHERE kept), "
        f"({_sizes_of(common)}), ({_sizes_of(f'NOT {common}')}), "
        f"(SELECT pg_catalog.sum(pages) FROM groups WHERE NOT {common})"
    )


def _sizes_of(which: str) -> str:
    """How often keys came, and how many came so often."""
    return (
        "SELECT pg_catalog.jsonb_agg(pg_catalog.jsonb_build_array(rows, many)) FROM (SELECT rows, "  # noqa: S608
        f"pg_catalog.count(*) AS many FROM groups WHERE {which} GROUP BY rows) AS sizes"
    )


# What an inverted index keeps of a value of each type, a row each.
_TERMS = {
    "tsvector": "pg_catalog.unnest(pg_catalog.tsvector_to_array({}))",
    "hstore": "pg_catalog.unnest(pg_catalog.array_cat(akeys({0}), avals({0})))",
    "jsonb": 'pg_catalog.jsonb_path_query({}, \'strict $.** ? (@.type() != "object" && '
    '@.type() != "array")\')',
}
_TRIGRAMS = "gin_trgm_ops"


def terms_of(key: IndexKey, type_name: str) -> str:
    """The expression that gives the terms which an inverted index keeps of a key, a row each.

    "" where they are not known. Of JSON these are the values at the ends of its paths, which are
    somewhat fewer than the pairs of path and value that the index tells apart.
    """
    value = sql.Identifier(key.column).as_string(None) if key.column else key.expression
    if _TRIGRAMS in key.operator_class:
        return f"pg_catalog.unnest(show_trgm({value}::pg_catalog.text))"
    if type_name.endswith("[]"):
        return f"pg_catalog.unnest({value})"
    return _TERMS.get(type_name, "").format(value)
