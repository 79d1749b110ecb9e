"""What a plan rests on, as SQL: the schema of its tables, and the rows of their statistics."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import closing
from pathlib import Path

import apsw

from humble_ledger.core.schema.facts import TableName
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.sqlite.asking import rows
from humble_ledger.engines.sqlite.session import SqliteSession
from humble_ledger.engines.sqlite.statistics import read_statistics

_LOAD = "ANALYZE sqlite_schema;"  # makes the tables of statistics, and has them read again


def reproduction(path: Path, tables: Sequence[TableName]) -> str:
    """The statements that make these tables without rows, and have the planner believe in them.

    Raises:
        TargetUnreachable: the file cannot be read.
    """
    names = {each.name.lower() for each in tables}
    with closing(SqliteSession(path, Limits())) as session:
        return session.reader.ask(lambda connection: "\n".join(_statements(connection, names)))


def _statements(connection: apsw.Connection, names: set[str]) -> list[str]:
    found = [
        f"{sql};"
        for table, name, sql in rows(
            connection,
            "SELECT tbl_name, name, sql FROM sqlite_schema WHERE sql IS NOT NULL "
            "AND type IN ('table', 'index') ORDER BY type DESC, rowid",
        )
        if str(table).lower() in names and not str(name).startswith("sqlite_")
    ]
    written = read_statistics(connection).written
    if not written:
        return found
    found.append(_LOAD)
    for name, kept in written.items():
        for row in kept:
            if str(row[0]).lower() in names:
                values = ", ".join(apsw.format_sql_value(value) for value in row)
                found.append(f"INSERT INTO {name} VALUES ({values});")  # noqa: S608 - written, not run
    return [*found, _LOAD]
