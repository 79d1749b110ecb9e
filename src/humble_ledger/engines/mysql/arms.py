"""One side of a trial: a connection whose statements leave some indexes out of use."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace

from humble_ledger.core.statements.kinds import Statement, StatementKind
from humble_ledger.engines.contract import Outcome, PlanDocument
from humble_ledger.engines.mysql import explain
from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.engines.mysql.estimates import Estimates
from humble_ledger.engines.mysql.faults import translated
from humble_ledger.engines.mysql.ignoring import without
from humble_ledger.engines.mysql.lexing import require_plain
from humble_ledger.engines.mysql.safety import require_undoable
from humble_ledger.engines.mysql.values import as_text


@dataclass(slots=True)
class MysqlArm:
    """See `engines.contract.Arm`; ``ignored`` are the indexes (table, name) it does not use."""

    connection: Connection
    engine: str
    ignored: tuple[tuple[str, str], ...] = ()
    known: Estimates | None = None

    def run(self, statement: Statement) -> Outcome:
        """Run a statement, fetch its result, and take back what it changed."""
        sent = self._sent(statement)
        with self._within(sent):
            return explain.outcome(self.connection, sent)

    def explain(self, statement: Statement, *, measure: bool) -> PlanDocument:
        """Explain a statement on this side."""
        sent = self._sent(statement)
        with self._within(sent):
            return self._estimates().explained(sent, measure=measure)

    def result_rows(self, statement: Statement) -> Iterator[tuple[bytes | None, ...]]:
        """Run a statement and hand over its rows as texts."""
        sent = self._sent(statement)
        with self._within(sent):
            cursor = self.connection.stream(explain.prepared(self.connection, sent))
            try:
                while batch := self.connection.fetched(cursor):
                    for row in batch:
                        yield tuple(as_text(value) for value in row)
            finally:
                with translated():
                    cursor.close()

    def _estimates(self) -> Estimates:
        """What this side knows of the tables, read when it is first asked for."""
        if self.known is None:
            database = self.connection.address.database
            self.known = Estimates(self.connection, database, self.engine)
        return self.known

    def _sent(self, statement: Statement) -> Statement:
        return replace(statement, sql=without(statement.sql, self.ignored))

    @contextmanager
    def _within(self, statement: Statement) -> Iterator[None]:
        modes = self.connection.modes
        if explain.kind(statement.sql, modes) is not StatementKind.CHANGES:
            yield
            return
        plain = require_plain(statement.sql, modes)
        require_undoable(self.connection, plain)
        self.connection.do("START TRANSACTION")
        try:
            yield
        finally:
            self.connection.do("ROLLBACK")
