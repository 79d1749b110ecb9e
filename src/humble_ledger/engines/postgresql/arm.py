"""One side of a trial: a connection on which statements are run, timed and undone.

Everything runs in a transaction behind a savepoint, or in a transaction of its own, so that
what fails ends nothing and no side pays for something the other does not.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable, Iterator
from contextlib import AbstractContextManager

import psycopg

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Outcome, PlanDocument
from humble_ledger.engines.postgresql import explain
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.one_statement import UserCursor
from humble_ledger.engines.postgresql.running import timed_run
from humble_ledger.errors import HumbleError

Guard = Callable[[Connection], AbstractContextManager[None]]


class PostgresArm:
    """One side of an experiment; see `engines.contract.Arm`."""

    def __init__(self, connection: Connection, guard: Guard) -> None:
        """``guard`` stands round each statement, outside of what is timed."""
        self._connection, self._guard = connection, guard
        self._version = str(connection.info.parameter_status("server_version") or "").split(" ")[0]

    def run(self, statement: Statement) -> Outcome:
        """Run a statement; the time is from sending it to having its whole result."""
        with translated(statement.sql), self._guard(self._connection):
            return timed_run(self._connection, statement)

    def explain(self, statement: Statement, *, measure: bool) -> PlanDocument:
        """Explain a statement on this side."""
        with translated(statement.sql), self._guard(self._connection):
            return explain.explain(
                self._connection, statement, measure=measure, version=self._version
            )

    def result_rows(self, statement: Statement) -> Iterable[tuple[bytes | None, ...]]:
        """The rows of a statement in the server's text form; a change of rows is not kept."""
        with (
            translated(statement.sql),
            self._guard(self._connection),
            UserCursor(self._connection) as cursor,
        ):
            cursor.execute(statement.sql.encode(), statement.values or None)
            result = cursor.pgresult
            if result is None:
                return
            columns = range(result.nfields)
            for row in range(result.ntuples):
                yield tuple(result.get_value(row, column) for column in columns)


@contextlib.contextmanager
def kept_savepoint(connection: Connection) -> Iterator[None]:
    """A savepoint round a statement that reads, so that one that fails ends nothing."""
    connection.execute("SAVEPOINT humble_run")
    try:
        yield
    except (psycopg.Error, HumbleError):
        with contextlib.suppress(psycopg.Error):
            connection.execute("ROLLBACK TO SAVEPOINT humble_run")
        raise
    connection.execute("RELEASE SAVEPOINT humble_run")


@contextlib.contextmanager
def undone_savepoint(connection: Connection) -> Iterator[None]:
    """A savepoint round a statement whose changes are taken back, and its locks with them."""
    connection.execute("SAVEPOINT humble_run")
    try:
        yield
    finally:
        with contextlib.suppress(psycopg.Error):
            connection.execute("ROLLBACK TO SAVEPOINT humble_run")
