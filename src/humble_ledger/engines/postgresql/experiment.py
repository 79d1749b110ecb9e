"""The uncommitted change: made in an open transaction, seen by that connection alone.

    inside:   BEGIN; CREATE INDEX …; runs of «after» …; ROLLBACK
    outside:  BEGIN READ ONLY;       runs of «before» …; ROLLBACK

While an index is open, writers to the table wait and readers do not; statistics and settings
let both pass. However it ends, also by
kill -9, the server rolls the transaction back and no index is left. Both sides run inside a
transaction behind a savepoint, so that neither pays for something the other does not.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

import psycopg
from psycopg import RawCursor

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import IndexBuild, Limits, Outcome, PlanDocument
from humble_ledger.engines.postgresql import explain
from humble_ledger.engines.postgresql.connection import Connection, connect
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.running import timed_run
from humble_ledger.errors import HumbleError

BUILD_TIMEOUT_MS = 10 * 60_000

_BUILT_SQL = """
SELECT pg_relation_size(i.indexrelid), i.indcheckxmin, i.indexprs IS NOT NULL,
    i.indrelid::regclass::text
FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid
WHERE c.relname = %s
ORDER BY i.indexrelid DESC LIMIT 1
"""


class PostgresArm:
    """One side of an experiment; see `engines.contract.Arm`."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection
        self._version = str(connection.info.parameter_status("server_version") or "").split(" ")[0]

    def run(self, statement: Statement) -> Outcome:
        """Run a statement; the time is from sending it to having its whole result."""
        with self._guarded(statement):
            return timed_run(self._connection, statement)

    def explain(self, statement: Statement, *, measure: bool) -> PlanDocument:
        """Explain a statement on this side."""
        with self._guarded(statement):
            return explain.explain(
                self._connection, statement, measure=measure, version=self._version
            )

    def result_rows(self, statement: Statement) -> Iterable[tuple[bytes | None, ...]]:
        """The rows of a statement in the server's text form."""
        with self._guarded(statement), RawCursor(self._connection) as cursor:
            cursor.execute(statement.sql.encode(), statement.values or None)
            result = cursor.pgresult
            if result is None:
                return
            columns = range(result.nfields)
            for row in range(result.ntuples):
                yield tuple(result.get_value(row, column) for column in columns)

    @contextlib.contextmanager
    def _guarded(self, statement: Statement) -> Iterator[None]:
        """A savepoint round a statement, so that one that fails does not end the trial."""
        with translated(statement.sql):
            self._connection.execute("SAVEPOINT humble_run")
            try:
                yield
            except (psycopg.Error, HumbleError):
                with contextlib.suppress(psycopg.Error):
                    self._connection.execute("ROLLBACK TO SAVEPOINT humble_run")
                raise
            self._connection.execute("RELEASE SAVEPOINT humble_run")


@dataclass(slots=True)
class UncommittedChanges:
    """The two arms, and what the builds took."""

    before: PostgresArm
    after: PostgresArm
    builds: list[IndexBuild]


@contextlib.contextmanager
def uncommitted_changes(
    url: str,
    statements: Sequence[str],
    names: Sequence[str],
    mark: str,
    limits: Limits,
    others: Sequence[str] = (),
) -> Iterator[UncommittedChanges]:
    """Build indexes and run other statements that one arm sees; roll back at the end.

    Raises:
        LockNotGranted: a writer holds the table; nothing was changed.
        StatementRejected: the server refuses to build; nothing was changed.
    """
    # The lock timeout stays short: while we wait for our lock, new writers queue behind us.
    building = replace(limits, statement_ms=BUILD_TIMEOUT_MS)
    inside = connect(url, building, mark=mark, read_only=False)
    try:
        outside = connect(url, limits, mark=mark)
        try:
            with translated():
                inside.execute("BEGIN")
            builds = [
                _build(inside, statement, name)
                for statement, name in zip(statements, names, strict=True)
            ]
            builds += [_run(inside, statement) for statement in others]
            with translated():
                # From here on this side may only read, as the other one does.
                inside.execute("SET TRANSACTION READ ONLY")
                inside.execute(
                    "SELECT set_config('statement_timeout', %s, true)", (str(limits.statement_ms),)
                )
                outside.execute("BEGIN READ ONLY")
            yield UncommittedChanges(PostgresArm(outside), PostgresArm(inside), builds)
        finally:
            outside.close()
    finally:
        with contextlib.suppress(psycopg.Error):
            inside.rollback()
        inside.close()


def _run(connection: Connection, statement: str) -> IndexBuild:
    """A change that is no index: it takes its time and no room that could be told."""
    with translated(statement):
        start = time.perf_counter()
        connection.execute(statement.encode())
        return IndexBuild("", (time.perf_counter() - start) * 1000.0, 0)


def _build(connection: Connection, statement: str, name: str) -> IndexBuild:
    with translated(statement):
        start = time.perf_counter()
        connection.execute(statement.encode())
        took = (time.perf_counter() - start) * 1000.0
        row = connection.execute(_BUILT_SQL, (name,)).fetchone()
        assert row is not None
        if row[2]:
            # The planner knows nothing of an expression until it was analyzed; what is
            # gathered here is rolled back with the index. The server quoted the name.
            connection.execute(f"ANALYZE {row[3]}".encode())
    unusable = (
        "rows of the table changed while older transactions could still see them, and the "
        "server ignores a new index until those have ended"
        if row[1]
        else ""
    )
    return IndexBuild(name, took, int(row[0]), unusable)
