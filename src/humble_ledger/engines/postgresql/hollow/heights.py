"""How long the files of relations are, and how many levels their b-trees have.

A b-tree that was built at once has more pages above its leaves than one whose root became full by
inserts, so for many lengths there are two heights it may have. The target's planner knows which:
a lookup's start-up cost grows with each level.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

from psycopg import sql

from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.costs.sizes import FILL_ABOVE, levels_above
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.hollow.files import RelationFiles
from humble_ledger.engines.postgresql.hollow.outline import Relation
from humble_ledger.engines.postgresql.hollow.standing import place_of_file
from humble_ledger.errors import HumbleError

# Indexes by schema and name, and the levels above their leaves.
Heights = Mapping[tuple[str, str], int]
# How full the pages above the leaves may be: after splits in the middle, and before the next one.
_LEAST_FULL, _FULL = 0.5, 1.0
# A descent costs so many operators for each level and once more (`DEFAULT_PAGE_CPU_MULTIPLIER` of
# `src/backend/utils/adt/selfuncs.c`). What else is in it, the comparisons in one page each, is the
# logarithm of the rows: fewer than that.
_OPERATORS_PER_LEVEL = 50
# One operator costs 1, so that no digit of a small cost is lost; and nothing but an index will do.
_ASKED_WITH = {
    "cpu_operator_cost": "1", "enable_seqscan": "off", "enable_sort": "off",
    "enable_incremental_sort": "off", "enable_bitmapscan": "off",
    "max_parallel_workers_per_gather": "0",
}  # fmt: skip

# The first key of an index: its length when fixed, else the mean width that statistics tell.
_FIRST_KEY_SQL = """
SELECT CASE WHEN a.attlen > 0 THEN a.attlen ELSE coalesce(s.stawidth, 16) END, i.indnkeyatts
FROM pg_index i
JOIN pg_attribute a ON a.attrelid = i.indexrelid AND a.attnum = 1
LEFT JOIN pg_statistic s ON s.starelid = i.indrelid AND s.staattnum = i.indkey[0]
     AND NOT s.stainherit
WHERE i.indexrelid = %s::regclass
"""
# Whole indexes on columns in their usual order.
_ON_COLUMNS_SQL = """
SELECT n.nspname, c.relname, tn.nspname, t.relname, min(a.attlen) FILTER (WHERE k.place = 1),
       array_agg(a.attname::text ORDER BY k.place), array_agg(k.options ORDER BY k.place)
FROM pg_index i
JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_namespace n ON n.oid = c.relnamespace
JOIN pg_class t ON t.oid = i.indrelid JOIN pg_namespace tn ON tn.oid = t.relnamespace
CROSS JOIN LATERAL unnest(i.indkey::int2[], i.indoption::int2[], i.indclass::oid[],
                          i.indcollation::oid[])
    WITH ORDINALITY AS k(column_, options, class, collation_, place)
JOIN pg_opclass o ON o.oid = k.class
LEFT JOIN pg_attribute a ON a.attrelid = t.oid AND a.attnum = k.column_
WHERE i.indisvalid AND i.indpred IS NULL AND i.indexprs IS NULL AND k.place <= i.indnkeyatts
  AND (n.nspname, c.relname) IN (SELECT * FROM unnest(%s::text[], %s::text[]))
GROUP BY 1, 2, 3, 4
HAVING bool_and(o.opcdefault AND k.collation_ = a.attcollation)
"""


def read_heights(
    connection: Connection,
    relations: Sequence[Relation],
    widths: Mapping[tuple[str, str, str], int],
) -> dict[tuple[str, str], int]:
    """The levels of those b-trees of a target whose length leaves it open, as its planner tells.

    Inside `one_look`; ``widths`` are mean lengths in bytes by schema, table and column. What the
    planner does not tell, for want of rights or as another index suits as well, is not in it.
    """
    trees = {
        (r.schema, r.name): r for r in relations if r.kind == "i" and r.method == "btree" and r.rows
    }
    names = ([schema for schema, _ in trees], [name for _, name in trees])
    with translated():
        rows = connection.execute(_ON_COLUMNS_SQL, names).fetchall()
        connection.execute("SAVEPOINT humble_heights")
        for name, value in _ASKED_WITH.items():
            connection.execute("SELECT set_config(%s, %s, true)", (name, value))
    found: dict[tuple[str, str], int] = {}
    for schema, name, of_schema, table, length, columns, options in rows:
        width = length if length > 0 else widths.get((of_schema, table, columns[0]), 16)
        pages = max(1, trees[schema, name].pages - 1)
        # Keys that differ in the first column are led to by this one alone.
        least = levels_above(pages, width, 1, filled=_FULL)
        most = levels_above(pages, width, len(columns), filled=_LEAST_FULL)
        if least < most:
            told = _told(connection, (of_schema, table), name, columns, options)
            if told is not None and least <= told <= most:
                found[schema, name] = told
    with translated():
        connection.execute("ROLLBACK TO SAVEPOINT humble_heights")
    return found


def _told(
    connection: Connection,
    table: tuple[str, str],
    name: str,
    columns: Sequence[str],
    options: Sequence[int],
) -> int | None:
    """What a plan that walks an index in its own order says of its height."""
    order = [
        sql.SQL("{} {} NULLS {}").format(
            sql.Identifier(column),
            sql.SQL("DESC" if option & 1 else "ASC"),
            sql.SQL("FIRST" if option & 2 else "LAST"),
        )
        for column, option in zip(columns, options, strict=True)
    ]
    query = sql.SQL("EXPLAIN (FORMAT JSON) SELECT FROM ONLY {} ORDER BY {}")
    connection.execute("SAVEPOINT humble_height")
    try:
        with translated():
            asked = query.format(sql.Identifier(*table), sql.SQL(", ").join(order))
            row = connection.execute(asked).fetchone()
    except HumbleError:
        connection.execute("ROLLBACK TO SAVEPOINT humble_height")
        return None
    connection.execute("RELEASE SAVEPOINT humble_height")
    plan = row[0][0]["Plan"] if row else {}
    if plan.get("Index Name") != name:
        return None
    return math.floor(float(plan["Startup Cost"]) / _OPERATORS_PER_LEVEL) - 1


def levels_of(admin: Connection, relation: Relation) -> int:
    """The levels above the leaves by length; on the hollow, where the index stands already."""
    place = sql.Identifier(relation.schema, relation.name).as_string(None)
    row = admin.execute(_FIRST_KEY_SQL, (place,)).fetchone()
    width, keys = (float(str(row[0])), int(str(row[1]))) if row else (8.0, 1)
    return levels_above(max(1, relation.pages - 1), width, keys, filled=FILL_ABOVE)


def give_files(
    files: RelationFiles, admin: Connection, relations: Sequence[Relation], heights: Heights
) -> None:
    """Let the files of relations that were just built over next to nothing be as long as theirs.

    A b-tree whose height is not known has the one that its length lets expect.
    """
    for relation in relations:
        if relation.kind not in "rmi" or not relation.pages:
            continue
        file = place_of_file(admin, relation.schema, relation.name)
        if not file:
            continue
        if relation.method == "btree":
            known = heights.get((relation.schema, relation.name))
            levels = levels_of(admin, relation) if known is None else known
            files.grow_b_tree(file, relation.pages, levels)
        else:
            files.resize(file, relation.pages)
