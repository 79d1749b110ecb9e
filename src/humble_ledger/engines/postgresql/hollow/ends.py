"""Two rows for each table: the least and the greatest value of every column.

The planner looks up the ends of a column in an index that leads with it; these rows are what it
finds there. No row of the target is copied: each value stands alone, and is an end.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import psycopg
from psycopg import sql

from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.hollow.source import ColumnStatistics, Source
from humble_ledger.errors import HumbleError

_COLUMNS_SQL = """
SELECT a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, a.attidentity::text,
       t.typcategory::text
FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid
WHERE a.attrelid = %s::regclass AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = ''
ORDER BY a.attnum
"""
# Any value of a type's category, for columns whose values nobody knows.
_ANY = {
    "A": "{}", "B": "f", "N": "0", "S": "", "D": "2000-01-01", "T": "0", "I": "::1", "V": "0",
    "R": "empty", "G": "(0,0)",
}  # fmt: skip
_BY_NAME = {
    "json": "{}", "jsonb": "{}", "uuid": "0" * 32, "bytea": "\\x", "xml": "",
    "macaddr": "00:00:00:00:00:00", "macaddr8": "00:00:00:00:00:00:00:00", "pg_lsn": "0/0",
    "box": "(0,0),(0,0)", "circle": "<(0,0),0>", "line": "{1,0,0}", "lseg": "[(0,0),(0,0)]",
    "path": "((0,0))", "polygon": "((0,0))",
}  # fmt: skip
_BITS = re.compile(r"bit\((\d+)\)")
_MOST_TRIES = 5


@dataclass(frozen=True, slots=True)
class _Column:
    name: str
    type_name: str
    needed: bool
    category: str


def insert_ends(connection: Connection, source: Source) -> list[str]:
    """Insert the rows into a hollow whose tables are made; what could not be done."""
    known = {(s.schema, s.table, s.column): s for s in source.statistics if not s.inherited}
    failed = []
    for relation in source.relations:
        if relation.kind != "r" or relation.rows <= 0:
            continue
        try:
            columns = _columns(connection, relation.schema, relation.name)
        except psycopg.Error:
            continue  # the table could not be made, which is told where it was tried
        ends = [
            _ends_of(
                connection, source, known, (relation.schema, relation.name, column.name), column
            )
            for column in columns
        ]
        rows = [[low for low, _ in ends], [high for _, high in ends]]
        for row in rows if relation.rows > 1 and rows[0] != rows[1] else rows[:1]:
            if not _inserted(connection, relation.schema, relation.name, columns, row):
                failed.append(f"{relation.schema}.{relation.name}")
                break
    return failed


def lacks_of_tables(failed: Sequence[str], lost: Sequence[str]) -> list[str]:
    """What tables lack, each in a note of its own: those without ends, and lost statistics."""
    found = [f"{table}: no values for the ends of its columns" for table in dict.fromkeys(failed)]
    for each in dict.fromkeys(lost):
        table, _, column = each.rpartition(".")
        found.append(f"{table}: the statistics of {column} are not carried over")
    return found


def _columns(connection: Connection, schema: str, table: str) -> list[_Column]:
    place = sql.Identifier(schema, table).as_string(None)
    rows = connection.execute(_COLUMNS_SQL, (place,)).fetchall()
    return [
        _Column(str(name), str(type_name), bool(needed), str(category))
        for name, type_name, needed, _, category in rows
    ]


def _ends_of(
    connection: Connection,
    source: Source,
    known: Mapping[tuple[str, str, str], ColumnStatistics],
    place: tuple[str, str, str],
    column: _Column,
) -> tuple[str | None, str | None]:
    """The ends as read; else by the statistics; else any value where one must be."""
    low, high = source.ends.get(place, (None, None))
    if low is None and place in known:
        low, high = _by_statistics(connection, known[place], column)
    if low is None and column.needed:
        low = high = _any_value(column)
    return low, high


def _any_value(column: _Column) -> str:
    """A value of the column's type; an empty text where nothing better is known."""
    bits = _BITS.fullmatch(column.type_name)
    if bits is not None:  # no other length will do
        return "0" * int(bits[1])
    base = column.type_name.split("(")[0].strip()
    many = "{}" if base.endswith(("[]", "multirange")) else _ANY.get(column.category, "")
    return _BY_NAME.get(base, many)


def _by_statistics(
    connection: Connection, statistics: ColumnStatistics, column: _Column
) -> tuple[str | None, str | None]:
    lists = [text for text in (statistics.common, statistics.bounds) if text]
    if not lists or column.type_name.endswith("[]"):
        return None, None
    # The type's name is the server's own text, with its length: bare, "bit" and "character" have
    # a length of 1. The values go beside it.
    each = " UNION ALL ".join(f"SELECT unnest(%s::{column.type_name}[])" for _ in lists)
    order = f"SELECT v::text AS shown FROM ({each}) AS u(v) ORDER BY v"  # noqa: S608
    try:
        low = connection.execute(f"{order} LIMIT 1", lists).fetchone()
        high = connection.execute(f"{order} DESC LIMIT 1", lists).fetchone()
    except psycopg.Error:
        return None, None
    return (str(low[0]), str(high[0])) if low and high else (None, None)


def _inserted(
    connection: Connection, schema: str, table: str, columns: list[_Column], row: list[str | None]
) -> bool:
    """Insert one row; a check that it does not meet is taken away."""
    given = [(c, v) for c, v in zip(columns, row, strict=True) if v is not None]
    target = sql.Identifier(schema, table)
    if given:
        query = sql.SQL("INSERT INTO {} ({}) OVERRIDING SYSTEM VALUE VALUES ({})").format(
            target,
            sql.SQL(", ").join(sql.Identifier(c.name) for c, _ in given),
            sql.SQL(", ").join([sql.Placeholder()] * len(given)),
        )
    else:
        query = sql.SQL("INSERT INTO {} DEFAULT VALUES").format(target)
    for _ in range(_MOST_TRIES):
        try:
            connection.execute(query, [value for _, value in given])
            return True
        except psycopg.errors.CheckViolation as error:
            name = error.diag.constraint_name
            if not name:
                return False
            drop = sql.SQL("ALTER TABLE {} DROP CONSTRAINT {}").format(target, sql.Identifier(name))
            try:
                connection.execute(drop)
            except (psycopg.Error, HumbleError):
                return False
        except psycopg.errors.UniqueViolation:
            return True  # the row that is there stands for both
        except psycopg.Error:
            return False
    return False
