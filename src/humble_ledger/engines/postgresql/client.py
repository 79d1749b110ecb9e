"""A connection as an application has one: for replays, where many of them are at work."""

from __future__ import annotations

import contextlib

import psycopg

from humble_ledger.core.statements.kinds import Statement, StatementKind, kind_of
from humble_ledger.engines.contract import Limits, Outcome
from humble_ledger.engines.postgresql.connection import connect
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.running import timed_run
from humble_ledger.engines.postgresql.transactions import reading, undone


class PostgresClient:
    """One of several connections of a replay; see `engines.contract.Client`."""

    def __init__(self, url: str, mark: str, limits: Limits, *, writes: bool) -> None:
        """Read-only unless ``writes``; then whatever a statement changes is rolled back."""
        self._writes = writes
        self._connection = connect(url, limits, mark=mark, read_only=not writes)

    def run(self, statement: Statement) -> Outcome:
        """Run a statement and fetch its result; what it changes is taken back."""
        changes = self._writes and kind_of(statement.sql) is StatementKind.CHANGES
        with translated(statement.sql), (undone if changes else reading)(self._connection):
            return timed_run(self._connection, statement)

    def do(self, sql: str) -> None:
        """Run a statement of ours in this session: a setting."""
        with translated(sql):
            self._connection.execute(sql.encode())

    def cancel(self) -> None:
        """Stop what is running; may be called from another thread."""
        with contextlib.suppress(psycopg.Error):
            self._connection.cancel()

    def close(self) -> None:
        """End the session."""
        self._connection.close()
