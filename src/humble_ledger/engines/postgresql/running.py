"""Running a user's statement and timing it on the client."""

from __future__ import annotations

import time

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Outcome
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.one_statement import UserCursor


def timed_run(connection: Connection, statement: Statement) -> Outcome:
    """Run a statement; the time is from sending it to having its whole result."""
    with translated(statement.sql), UserCursor(connection) as cursor:
        text, values = statement.sql.encode(), statement.values or None
        start = time.perf_counter()
        cursor.execute(text, values)
        elapsed = time.perf_counter() - start
        return Outcome(elapsed * 1000.0, max(cursor.rowcount, 0))
