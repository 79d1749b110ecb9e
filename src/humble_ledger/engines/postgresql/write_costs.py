"""What an index costs those who write: batches of writes on two copies of a table.

The copies are made of a sample of the table's rows inside a transaction that is rolled back,
with all its indexes but without its triggers and foreign keys; one of them gets the new index,
too. The table itself is only read. Copies are smaller than the table, so that an index is a
level or two less deep in them than it will be, and their pages are all in memory.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import psycopg
from psycopg import sql
from psycopg.sql import SQL, Composed, Identifier

from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.statements.side_effects import refuse_run
from humble_ledger.engines.contract import Limits, WriteRuns
from humble_ledger.engines.postgresql.building import BUILD_TIMEOUT_MS
from humble_ledger.engines.postgresql.connection import Connection, connect, end
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.side_effects.search import SideEffects
from humble_ledger.errors import StatementRejected

COPIED_ROWS = 20_000
BATCH_ROWS = 1_000
PAIRS = 8
FEWEST_ROWS = 2 * BATCH_ROWS

_COLUMNS_SQL = """
SELECT attname FROM pg_catalog.pg_attribute
WHERE attrelid = %s::regclass::oid AND attnum > 0 AND NOT attisdropped AND attgenerated = ''
ORDER BY attnum
"""
# What an update may set without meeting a row that has the value already.
_UNIQUE_SQL = """
SELECT a.attname FROM pg_catalog.pg_index i
JOIN pg_catalog.pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = ANY(i.indkey)
WHERE i.indrelid = %s::regclass::oid AND i.indisunique
"""


@dataclass(frozen=True, slots=True)
class _Copies:
    """The sample and the two copies made of it."""

    sample: Identifier
    plain: Identifier
    indexed: Identifier
    columns: tuple[str, ...]
    rows: int

    @property
    def listed(self) -> Composed:
        return SQL(", ").join(map(Identifier, self.columns))


def write_runs(
    url: str,
    table: TableFacts,
    index_on: Callable[[TableName], str],
    updated: Sequence[str],
    mark: str,
    limits: Limits,
) -> WriteRuns:
    """Time batches of inserts, updates and deletes; see `engines.contract.Engine.write_runs`.

    Raises:
        StatementRejected: we may not make tables there, or it has too few rows.
        RefusedForSafety: its checks or indexes call what was not allowed by name.
    """
    patient = replace(limits, statement_ms=BUILD_TIMEOUT_MS)
    connection = connect(url, patient, mark=mark, read_only=False)
    try:
        refuse_run(SideEffects(connection).of_copies(table.name), limits.may_call)
        with translated():
            connection.execute("BEGIN READ WRITE")
            connection.look_as_the_user()
            copies = _copied(connection, table, index_on, mark)
            set_ = _settable(connection, table, updated)
            return _timed(connection, copies, set_)
    finally:
        with contextlib.suppress(psycopg.Error):
            connection.rollback()
        end(connection)


def _copied(
    connection: Connection,
    table: TableFacts,
    index_on: Callable[[TableName], str],
    mark: str,
) -> _Copies:
    source = Identifier(table.name.schema, table.name.name)
    names = [f"humble_{part}_{mark.replace('@', '_')}" for part in ("rows", "plain", "indexed")]
    sample, plain, indexed = (Identifier(table.name.schema, name) for name in names)
    columns = _names(connection, _COLUMNS_SQL, table)
    listed = SQL(", ").join(map(Identifier, columns))
    percent = min(100.0, 100.0 * 1.5 * COPIED_ROWS / max(table.rows, 1.0))
    scanned = (
        SQL("TABLESAMPLE SYSTEM ({})").format(sql.Literal(percent)) if percent < 100 else SQL("")
    )
    connection.execute(
        SQL(
            "CREATE TABLE {} AS SELECT row_number() OVER () AS humble_no, * "
            "FROM (SELECT {} FROM {} {} LIMIT {}) AS humble_sample"
        ).format(sample, listed, source, scanned, sql.Literal(COPIED_ROWS))
    )
    counted = connection.execute(SQL("SELECT count(*) FROM {}").format(sample)).fetchone()
    rows = int(counted[0]) if counted else 0
    if rows < FEWEST_ROWS:
        raise StatementRejected(f"{table.name} has too few rows to measure writes on")
    copies = _Copies(sample, plain, indexed, columns, rows - BATCH_ROWS)
    for copy in (plain, indexed):
        connection.execute(SQL("CREATE TABLE {} (LIKE {} INCLUDING ALL)").format(copy, source))
        connection.execute(_insert(copies, copy, SQL("humble_no <= {}"), copies.rows))
    connection.execute(index_on(TableName(table.name.schema, names[2])).encode())
    return copies


def _names(connection: Connection, question: str, table: TableFacts) -> tuple[str, ...]:
    place = Identifier(table.name.schema, table.name.name).as_string(connection)
    return tuple(str(name) for (name,) in connection.execute(question.encode(), (place,)))


def _settable(connection: Connection, table: TableFacts, updated: Sequence[str]) -> tuple[str, ...]:
    unique = _names(connection, _UNIQUE_SQL, table)
    able = _names(connection, _COLUMNS_SQL, table)
    return tuple(name for name in updated if name in able and name not in unique)


def _insert(copies: _Copies, copy: Identifier, which: SQL, bound: int) -> Composed:
    return SQL("INSERT INTO {} ({}) OVERRIDING SYSTEM VALUE SELECT {} FROM {} WHERE ").format(
        copy, copies.listed, copies.listed, copies.sample
    ) + which.format(sql.Literal(bound))


def _update(copies: _Copies, copy: Identifier, columns: Sequence[str]) -> Composed:
    """Each row of a batch gets the value of another one, as an application would change it."""
    taken = SQL(", ").join(
        SQL("coalesce(lead({0}, 7) OVER (), {0}) AS {0}").format(Identifier(name))
        for name in columns
    )
    sets = SQL(", ").join(SQL("{0} = humble_new.{0}").format(Identifier(name)) for name in columns)
    return SQL(
        "UPDATE {0} AS humble_old SET {1} FROM (SELECT ctid AS humble_place, {2} FROM {0} LIMIT "
        "{3}) AS humble_new WHERE humble_old.ctid = humble_new.humble_place"
    ).format(copy, sets, taken, sql.Literal(BATCH_ROWS))


def _delete(copy: Identifier) -> Composed:
    return SQL("DELETE FROM {0} WHERE ctid = ANY(ARRAY(SELECT ctid FROM {0} LIMIT {1}))").format(
        copy, sql.Literal(BATCH_ROWS)
    )


def _timed(connection: Connection, copies: _Copies, updated: tuple[str, ...]) -> WriteRuns:
    statements = {
        "insert": [
            _insert(copies, copy, SQL("humble_no > {}"), copies.rows)
            for copy in (copies.plain, copies.indexed)
        ],
        "delete": [_delete(copy) for copy in (copies.plain, copies.indexed)],
    }
    if updated:
        statements["update"] = [
            _update(copies, copy, updated) for copy in (copies.plain, copies.indexed)
        ]
    without: dict[str, list[float]] = {name: [] for name in statements}
    with_index: dict[str, list[float]] = {name: [] for name in statements}
    for number in range(PAIRS + 1):
        for name, both in statements.items():
            sides = [(without, both[0]), (with_index, both[1])]
            for runs, statement in sides if number % 2 else reversed(sides):
                took = _undone(connection, statement)
                if number:  # the first of each is for warming up
                    runs[name].append(took)
    return WriteRuns(BATCH_ROWS, copies.rows, updated, without, with_index)


def _undone(connection: Connection, statement: Composed) -> float:
    """Milliseconds of a batch that is taken back."""
    connection.execute("SAVEPOINT humble_batch")
    start = time.perf_counter()
    connection.execute(statement)
    took = (time.perf_counter() - start) * 1000.0
    connection.execute("ROLLBACK TO SAVEPOINT humble_batch")
    return took
