"""What a copy needs of the target: how tables are made, views, functions, and sampled rows."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.engines.mysql.naming import quoted
from humble_ledger.errors import HumbleError

_KEPT_ELSEWHERE = re.compile(
    r"\s(?:AUTO_INCREMENT|STATS_AUTO_RECALC|STATS_PERSISTENT|DATA DIRECTORY|INDEX DIRECTORY"
    r"|ENCRYPTED|ENCRYPTION_KEY_ID|PAGE_COMPRESSED|TABLESPACE)\s?=?\s?(?:\d+|'[^']*'|`[^`]*`|\w+)",
    re.IGNORECASE,
)
_DEFINER = re.compile(r"DEFINER=(?:`(?:[^`]|``)*`|'[^']*'|\w+)@(?:`(?:[^`]|``)*`|'[^']*'|\w+)\s")
_RIGHTS = re.compile(r"SQL SECURITY DEFINER", re.IGNORECASE)
LONGEST_TEXT = 512  # characters of a value that are read: no index holds more of one


@dataclass(frozen=True, slots=True)
class Column:
    """A column that takes values; ``kind`` is its type without length, in small letters."""

    name: str
    kind: str
    type_name: str
    characters: int | None


@dataclass(frozen=True, slots=True)
class SourceTable:
    """A table as it is made, its columns, and the columns of each unique key, the primary first."""

    name: str
    sql: str
    columns: tuple[Column, ...]
    unique: tuple[tuple[str, ...], ...]

    @property
    def primary(self) -> tuple[str, ...]:
        """The columns that rows are told apart by; () for none."""
        return self.unique[0] if self.unique else ()


def tables_of(connection: Connection, database: str) -> list[SourceTable]:
    """The tables of a database, the statements without what ties them to their place."""
    names = connection.asked(
        "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = %s "
        "AND TABLE_TYPE = 'BASE TABLE' ORDER BY 1",
        database,
    )
    found = []
    for (name,) in names:
        text = str(connection.rows(f"SHOW CREATE TABLE {quoted(str(name))}")[0][1])
        found.append(
            SourceTable(
                str(name),
                _KEPT_ELSEWHERE.sub("", text),
                tuple(_columns(connection, database, str(name))),
                tuple(_unique(connection, database, str(name))),
            )
        )
    return found


def others_of(connection: Connection, database: str) -> Iterator[tuple[str, str]]:
    """Functions and views as (name, statement), with our rights in place of their makers'."""
    functions = connection.asked(
        "SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = %s "
        "AND ROUTINE_TYPE = 'FUNCTION'",
        database,
    )
    views = connection.asked(
        "SELECT TABLE_NAME FROM information_schema.VIEWS WHERE TABLE_SCHEMA = %s", database
    )
    for kind, names, place in (("FUNCTION", functions, 2), ("VIEW", views, 1)):
        for (name,) in names:
            try:
                text = connection.rows(f"SHOW CREATE {kind} {quoted(str(name))}")[0][place]
            except HumbleError:
                continue  # not ours to see: a statement that needs it is planned by formula
            if text:
                yield str(name), _RIGHTS.sub("SQL SECURITY INVOKER", _DEFINER.sub("", str(text)))


def _columns(connection: Connection, database: str, table: str) -> Iterator[Column]:
    rows = connection.asked(
        "SELECT COLUMN_NAME, DATA_TYPE, COLUMN_TYPE, CHARACTER_MAXIMUM_LENGTH, "
        "COALESCE(GENERATION_EXPRESSION, '') "
        "FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = %s AND TABLE_NAME = %s "
        "ORDER BY ORDINAL_POSITION",
        database,
        table,
    )
    for name, kind, type_name, length, generated in rows:
        if not generated:
            characters = None if length is None else int(length)
            yield Column(str(name), str(kind).lower(), str(type_name).lower(), characters)


def _unique(connection: Connection, database: str, table: str) -> Iterator[tuple[str, ...]]:
    rows = connection.asked(
        "SELECT INDEX_NAME, COLUMN_NAME FROM information_schema.STATISTICS WHERE TABLE_SCHEMA = %s "
        "AND TABLE_NAME = %s AND NON_UNIQUE = 0 AND COLUMN_NAME IS NOT NULL "
        "ORDER BY INDEX_NAME <> 'PRIMARY', INDEX_NAME, SEQ_IN_INDEX",
        database,
        table,
    )
    found: dict[str, list[str]] = {}
    for index, column in rows:
        found.setdefault(str(index), []).append(str(column))
    yield from map(tuple, found.values())


def sampled(
    connection: Connection, table: SourceTable, one_of: int, most: int
) -> Sequence[tuple[Any, ...]]:
    """Rows of a table, one of so many by a number that its key gives; the first where it has none.

    Their order is that of the key.
    """
    shown = ", ".join(_read(column) for column in table.columns)
    where = ""
    if one_of > 1 and table.primary:
        keys = ", ".join(quoted(name) for name in table.primary)
        # A checksum would go with the digits of a number, and so with what goes with that.
        mixed = f"CONV(LEFT(SHA2(CONCAT_WS('-', {keys}), 256), 8), 16, 10)"
        where = f" WHERE {mixed} % {one_of} = 0"
    order = ", ".join(quoted(name) for name in table.primary)
    by = f" ORDER BY {order}" if order else ""
    return connection.rows(f"SELECT {shown} FROM {quoted(table.name)}{where}{by} LIMIT {most}")


def _read(column: Column) -> str:
    name = quoted(column.name)
    if column.characters is not None and column.characters > LONGEST_TEXT:
        return f"LEFT({name}, {LONGEST_TEXT})"
    return name
