"""What an index costs writers: the same writes on two copies of a table, one with the index."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from pathlib import Path

import apsw

from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.engines.contract import Limits, WriteRuns
from humble_ledger.engines.sqlite.asking import row
from humble_ledger.engines.sqlite.copies import copy_of
from humble_ledger.engines.sqlite.faults import translated
from humble_ledger.engines.sqlite.guard import Guard
from humble_ledger.engines.sqlite.one_statement import execute
from humble_ledger.engines.sqlite.reading import opened
from humble_ledger.engines.sqlite.samples import quoted
from humble_ledger.engines.sqlite.schema import ROWID

MOST_COPIED = 100_000
ROWS = 2_000
ROUNDS = 7
_PLAIN, _INDEXED = "humble_written_plain", "humble_written_indexed"


def write_runs(
    path: Path,
    table: TableFacts,
    index_on: Callable[[TableName], str],
    updated: Sequence[str],
    mark: str,
    limits: Limits,
) -> WriteRuns:
    """Time inserts, updates and deletes of so many rows, alternating, in a copy of the file."""
    with copy_of(path, mark) as copy, translated(path):
        connection = opened(copy, Guard(writes=True), writes=True)
        try:
            return _timed(connection, table, index_on, updated)
        finally:
            connection.close()


def _timed(
    connection: apsw.Connection,
    table: TableFacts,
    index_on: Callable[[TableName], str],
    updated: Sequence[str],
) -> WriteRuns:
    source = quoted(table.name.name)
    columns = [name for name in table.columns if _writable(connection, table.name.name, name)]
    shown = ", ".join(map(quoted, columns))
    for name in (_PLAIN, _INDEXED):
        connection.execute(
            f"CREATE TABLE {name} AS SELECT {shown} FROM {source} LIMIT {MOST_COPIED}"  # noqa: S608
        )
        # The indexes that are there weigh on both alike; the same rows come more than once.
        for number, body in enumerate(_bodies(table)):
            execute(connection, f"CREATE INDEX {name}_{number} ON {name} {body}")
    execute(connection, index_on(TableName("", _INDEXED)))
    (copied,) = row(connection, f"SELECT count(*) FROM {_PLAIN}")  # noqa: S608
    written = min(ROWS, int(copied))
    set_to = [name for name in updated if name in columns][:4]
    texts = {
        "insert": f"INSERT INTO {{}} SELECT {shown} FROM {source} LIMIT {written}",  # noqa: S608
        "delete": f"DELETE FROM {{}} WHERE rowid <= {written}",  # noqa: S608
    }
    if set_to:
        changes = ", ".join(f"{quoted(n)} = {_other(n)}" for n in set_to)
        texts["update"] = f"UPDATE {{}} SET {changes} WHERE rowid <= {written}"  # noqa: S608
    without: dict[str, list[float]] = {name: [] for name in texts}
    with_index: dict[str, list[float]] = {name: [] for name in texts}
    for turn in range(ROUNDS + 1):
        for operation, text in texts.items():
            sides = [(_PLAIN, without), (_INDEXED, with_index)]
            for name, into in sides if turn % 2 else sides[::-1]:
                took = _run(connection, text.format(name))
                if turn:  # the first one only warms up
                    into[operation].append(took)
    return WriteRuns(written, int(copied), tuple(set_to), without, with_index)


def _bodies(table: TableFacts) -> list[str]:
    """What stands behind the table's name in the statements of its indexes."""
    found = []
    for index in table.indexes:
        if index.name == ROWID:
            continue
        design = IndexDesign(table.name, index.keys, predicate=index.predicate)
        found.append(design.body)
    return found


def _run(connection: apsw.Connection, text: str) -> float:
    connection.execute("BEGIN")
    try:
        begun = time.perf_counter()
        connection.execute(text).fetchall()
        return (time.perf_counter() - begun) * 1000
    finally:
        connection.execute("ROLLBACK")


def _other(name: str) -> str:
    """Another value of the same kind."""
    shown = quoted(name)
    return f"CASE typeof({shown}) WHEN 'text' THEN {shown} || 'x' ELSE coalesce({shown}, 0) + 1 END"


def _writable(connection: apsw.Connection, table: str, column: str) -> bool:
    """Whether a column takes values; one that is generated does not."""
    row = connection.execute(
        "SELECT hidden FROM pragma_table_xinfo(?) WHERE name = ?", (table, column)
    ).fetchone()
    return row is not None and row[0] == 0
