"""One of several connections of a replay; see `engines.contract.Client`."""

from __future__ import annotations

from pathlib import Path

from humble_ledger.core.statements.kinds import Statement, require_readable_run
from humble_ledger.engines.contract import Limits, Outcome
from humble_ledger.engines.sqlite import explain
from humble_ledger.engines.sqlite.reading import Reader
from humble_ledger.errors import StatementRejected


class SqliteClient:
    """Reads the file in a thread of its own; what a writer changed meanwhile is read again."""

    def __init__(self, path: Path, limits: Limits) -> None:
        self.reader = Reader(path, limits.statement_ms)

    def run(self, statement: Statement) -> Outcome:
        """Run a statement and fetch its result."""
        require_readable_run(statement.sql, allow_writes=False)
        return self.reader.ask(lambda c: explain.outcome(c, statement))

    def do(self, sql: str) -> None:
        """There are no settings of a session that change how it plans."""
        raise StatementRejected("SQLite has no settings that change a plan.")

    def cancel(self) -> None:
        """Stop what is running."""
        self.reader.interrupt()

    def close(self) -> None:
        """End the session."""
        self.reader.close()
