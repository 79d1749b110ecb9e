"""One of several connections of a replay; see `engines.contract.Client`."""

from __future__ import annotations

from pathlib import Path

import apsw

from humble_ledger.core.statements.kinds import Statement, require_readable_run
from humble_ledger.engines.contract import Limits, Outcome
from humble_ledger.engines.sqlite import explain
from humble_ledger.engines.sqlite.faults import translated
from humble_ledger.engines.sqlite.guard import Guard
from humble_ledger.engines.sqlite.reading import limited, opened, require_database, uses_log
from humble_ledger.errors import StatementRejected


class SqliteClient:
    """Reads the file as the application would, in a thread of its own."""

    def __init__(self, path: Path, limits: Limits) -> None:
        require_database(path)
        self.path = path
        self.limits = limits
        with translated(path):
            self.connection = opened(path, Guard(), immutable=not uses_log(path))

    def run(self, statement: Statement) -> Outcome:
        """Run a statement and fetch its result."""
        require_readable_run(statement.sql, allow_writes=False)
        with translated(self.path), limited(self.connection, self.limits.statement_ms):
            return explain.outcome(self.connection, statement)

    def do(self, sql: str) -> None:
        """There are no settings of a session that change how it plans."""
        raise StatementRejected("SQLite has no settings that change a plan.")

    def cancel(self) -> None:
        """Stop what is running."""
        try:
            self.connection.interrupt()
        except apsw.ConnectionClosedError:
            return

    def close(self) -> None:
        """End the session."""
        self.connection.close()
