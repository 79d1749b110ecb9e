"""Running a settled change on a target, statement by statement, outside a transaction.

Online builds cannot be part of one. Waiting for locks is limited, so that nobody queues behind
us for long; the building itself is not.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace

import psycopg
from psycopg import sql

from humble_ledger.engines.contract import Limits
from humble_ledger.engines.postgresql.connection import Connection, connect, end
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.transactions import refuse_to_leave

_INVALID_SQL = """
SELECT 1 FROM pg_catalog.pg_index
WHERE indexrelid = pg_catalog.to_regclass(%s)::oid AND NOT indisvalid
"""


class PostgresHands:
    """One connection that may write; see `engines.contract.AdminSession`."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection

    @property
    def saved_as(self) -> str:
        """Nothing: what a server keeps is in its administrators' hands."""
        return ""

    def do(self, statement: str) -> float:
        """Run one statement; milliseconds.

        Raises:
            LockNotGranted: somebody holds the table longer than we wait.
            StatementRejected: the server refuses.
        """
        with translated(statement):
            start = time.perf_counter()
            self._connection.execute(statement.encode())
            return (time.perf_counter() - start) * 1000.0

    def together(self, statements: Sequence[str], then: Callable[[], None]) -> None:
        """All of the statements or none; see `engines.contract.AdminSession`.

        Raises:
            LockNotGranted, StatementRejected: nothing was made.
        """
        try:
            with translated():
                self._connection.execute("BEGIN READ WRITE")
            for statement in statements:
                with translated():
                    refuse_to_leave(self._connection, statement)
                self.do(statement)
            then()
            with translated():
                self._connection.execute("COMMIT")
        except BaseException:
            with contextlib.suppress(psycopg.Error):
                self._connection.rollback()
            raise

    def drop_if_invalid(self, schema: str, name: str) -> bool:
        """Drop an index that an online build left unfinished; whether there was one."""
        index = sql.Identifier(schema, name)
        with translated():
            found = self._connection.execute(
                _INVALID_SQL, (index.as_string(self._connection),)
            ).fetchone()
            if found is None:
                return False
            self._connection.execute(sql.SQL("DROP INDEX CONCURRENTLY {}").format(index))
        return True


@contextlib.contextmanager
def hands(url: str, limits: Limits, mark: str = "settle") -> Iterator[PostgresHands]:
    """A connection that may write, closed at the end."""
    connection = connect(
        url, replace(limits, statement_ms=0), mark=mark, read_only=False, as_the_user=True
    )
    try:
        yield PostgresHands(connection)
    finally:
        end(connection)
