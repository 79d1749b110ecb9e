"""What a plan rests on, as SQL: the schema of its tables, and the rows of their statistics."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path

from humble_ledger.core.schema.facts import TableName
from humble_ledger.errors import TargetUnreachable

# Tables of statistics with their columns, as SQLite's file format documents them.
_STATISTICS = {
    "sqlite_stat1": ("tbl", "idx", "stat"),
    "sqlite_stat4": ("tbl", "idx", "neq", "nlt", "ndlt", "sample"),
}


def reproduction(path: Path, tables: Sequence[TableName]) -> str:
    """The statements that make these tables without rows, and have the planner believe in them.

    Raises:
        TargetUnreachable: the file cannot be read.
    """
    try:
        with closing(sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True)) as source:
            return "\n".join(_statements(source, [each.name for each in tables])) + "\n"
    except sqlite3.Error as error:
        raise TargetUnreachable(f"{path} cannot be read: {error}.") from error


def _statements(source: sqlite3.Connection, tables: Sequence[str]) -> list[str]:
    marks = ", ".join("?" for _ in tables)
    found = [
        f"{sql};"
        for (sql,) in source.execute(
            "SELECT sql FROM sqlite_schema WHERE sql IS NOT NULL AND type IN ('table', 'index') "
            f"AND tbl_name COLLATE NOCASE IN ({marks}) "
            "AND name NOT LIKE 'sqlite~_%' ESCAPE '~' ORDER BY type DESC, rowid",
            tuple(tables),
        )
    ]
    there = [
        name
        for name in _STATISTICS
        if source.execute("SELECT 1 FROM sqlite_schema WHERE name = ?", (name,)).fetchone()
    ]
    if there:
        found.append("ANALYZE sqlite_schema;")  # makes the tables of statistics
    for name in there:
        quoted = " || ', ' || ".join(f"quote({column})" for column in _STATISTICS[name])
        rows = source.execute(
            f"SELECT {quoted} FROM {name} WHERE tbl COLLATE NOCASE IN ({marks})", tuple(tables)
        )
        found += [f"INSERT INTO {name} VALUES ({values});" for (values,) in rows]
    return [*found, "ANALYZE sqlite_schema;"] if there else found
