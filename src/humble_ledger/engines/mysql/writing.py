"""What writers pay for an index: batches of writes on two copies of a part of the table."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence

from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.engines.contract import Limits, WriteRuns
from humble_ledger.engines.mysql.connection import BUILD_TIMEOUT_MS, Connection, connect
from humble_ledger.engines.mysql.naming import place, quoted

MOST_COPIED = 20_000
BATCH = 500
ROUNDS = 6


def write_runs(
    url: str,
    table: TableFacts,
    index_on: Callable[[TableName], str],
    updated: Sequence[str],
    mark: str,
    limits: Limits,
) -> WriteRuns:
    """Time writes without and with an index, on temporary copies that end with the session."""
    connection = connect(url, limits, mark=mark, read_only=False)
    try:
        connection.patience(BUILD_TIMEOUT_MS)
        copies = [TableName("", f"humble_{side}_{mark}"[:60]) for side in ("without", "with")]
        for copy in copies:
            connection.do(f"CREATE TEMPORARY TABLE {place(copy)} LIKE {place(table.name)}")
        source = place(table.name)
        copied = connection.do(
            f"INSERT INTO {place(copies[0])} SELECT * FROM {source} LIMIT {MOST_COPIED}"  # noqa: S608
        )
        connection.do(
            f"INSERT INTO {place(copies[1])} SELECT * FROM {source} LIMIT {MOST_COPIED}"  # noqa: S608
        )
        connection.do(index_on(copies[1]).replace(" ALGORITHM=INPLACE LOCK=NONE", ""))
        rows = min(BATCH, copied)
        usable = [c for c in updated if c in table.columns]
        without: dict[str, list[float]] = {}
        with_index: dict[str, list[float]] = {}
        for turn in range(ROUNDS):
            order = ((copies[0], without), (copies[1], with_index))
            for copy, times in order if turn % 2 == 0 else reversed(order):
                _round(connection, copy, table, usable, rows, times)
        return WriteRuns(rows, copied, tuple(usable), without, with_index)
    finally:
        connection.close()


def _round(
    connection: Connection,
    copy: TableName,
    table: TableFacts,
    updated: Sequence[str],
    rows: int,
    times: dict[str, list[float]],
) -> None:
    """Delete a batch, insert it again, and update it; every part timed, then rolled back."""
    name, source = place(copy), place(table.name)
    connection.do("START TRANSACTION")
    try:
        times.setdefault("delete", []).append(
            _timed(connection, f"DELETE FROM {name} LIMIT {rows}")  # noqa: S608
        )
        times.setdefault("insert", []).append(
            _timed(connection, f"INSERT IGNORE INTO {name} SELECT * FROM {source} LIMIT {rows}")  # noqa: S608
        )
        if updated:
            changes = ", ".join(f"{quoted(c)} = {_changed(table, c)}" for c in updated)
            times.setdefault("update", []).append(
                _timed(connection, f"UPDATE IGNORE {name} SET {changes} LIMIT {rows}")  # noqa: S608
            )
    finally:
        connection.do("ROLLBACK")


def _changed(table: TableFacts, column: str) -> str:
    """Another value of the column's type."""
    shown = quoted(column)
    kind = table.columns[column].type_name.lower()
    if any(word in kind for word in ("int", "decimal", "float", "double", "numeric")):
        return f"{shown} + 1"
    if any(word in kind for word in ("date", "timestamp")):
        return f"{shown} + INTERVAL 1 DAY"
    if "char" in kind or "text" in kind:
        return f"REVERSE({shown})"
    return shown


def _timed(connection: Connection, sql: str) -> float:
    begun = time.perf_counter()
    connection.do(sql)
    return (time.perf_counter() - begun) * 1000
