"""Transactions of ours round the statements of users; every one of them is rolled back.

Read-only is a property of the transaction, not of the session: `default_transaction_read_only`
can be switched off by any statement that calls `set_config`, a transaction that began as READ
ONLY and has taken a snapshot cannot be made to write by any. The session's default stays on as
a second wall.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

import psycopg
from psycopg.pq import ExecStatus, TransactionStatus

from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.errors import RefusedForSafety, StatementRejected

_ABORTED = "humble_aborted"


@contextlib.contextmanager
def reading(connection: Connection) -> Iterator[None]:
    """A transaction that only reads, and cannot be made to do anything else.

    Inside another transaction of ours (a trial's) that one is what holds.
    """
    if connection.info.transaction_status is not TransactionStatus.IDLE:
        yield
        return
    # Sent together, so that a distant server is waited for once.
    with translated(), connection.pipeline():
        connection.execute("BEGIN READ ONLY")
        # From the first snapshot on the server refuses SET TRANSACTION READ WRITE.
        connection.look_as_the_user()
    try:
        yield
    finally:
        with contextlib.suppress(psycopg.Error):
            connection.rollback()


@contextlib.contextmanager
def undone(connection: Connection) -> Iterator[None]:
    """A transaction that may write and is rolled back."""
    with translated():
        connection.execute("BEGIN READ WRITE")
        connection.look_as_the_user()
    try:
        yield
    finally:
        with contextlib.suppress(psycopg.Error):
            connection.rollback()


def refuse_to_leave(connection: Connection, text: str) -> None:
    """Refuse a statement that would end the transaction which is open, or go back in it.

    The server itself tells: in a transaction that has failed it parses such statements only.
    What it parses it also holds to be one statement; nothing is run.

    Raises:
        RefusedForSafety: it is one of these (COMMIT, ROLLBACK, PREPARE TRANSACTION …).
        StatementRejected: it is more than one statement, or none that the server can read.
    """
    assert connection.info.transaction_status is TransactionStatus.INTRANS
    connection.execute(f"SAVEPOINT {_ABORTED}")
    try:
        with contextlib.suppress(psycopg.errors.DivisionByZero):
            connection.execute("SELECT 1 OPERATOR(pg_catalog./) 0")
        result = connection.pgconn.prepare(b"", text.encode())
        leaves = result.status == ExecStatus.COMMAND_OK
        state = (result.error_field(psycopg.pq.DiagnosticField.SQLSTATE) or b"").decode()
        said = result.get_error_message()
    finally:
        connection.execute(f"ROLLBACK TO SAVEPOINT {_ABORTED}")
        connection.execute(f"RELEASE SAVEPOINT {_ABORTED}")
    if leaves:
        raise RefusedForSafety(
            f'"{" ".join(text.split())[:60]}" cannot be tried: it would end the transaction in '
            "which a trial makes its changes.",
            "Give only statements that a transaction may hold.",
        )
    if state != psycopg.errors.InFailedSqlTransaction.sqlstate:
        raise StatementRejected(
            f"The server rejects the statement: {said.strip()}.",
            "Give one statement, as it can be sent.",
            state,
            said,
        )
