"""The uncommitted change: made in an open transaction, seen by that connection alone.

    inside:   BEGIN; CREATE INDEX …; runs of "after" …; ROLLBACK
    outside:  BEGIN READ ONLY;       runs of "before" …; ROLLBACK

While an index is open, writers to the table wait and readers do not; statistics and settings
let both pass. However it ends, also by kill -9, the server rolls the transaction back and no
index is left.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace

import psycopg

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Arm, Change, IndexBuild, Limits, Outcome, PlanDocument
from humble_ledger.engines.postgresql.arm import PostgresArm, kept_savepoint, undone_savepoint
from humble_ledger.engines.postgresql.building import BUILD_TIMEOUT_MS, hidden_sql, make
from humble_ledger.engines.postgresql.connection import Connection, connect, end
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.local_process import local_process
from humble_ledger.engines.postgresql.yielding import yielding
from humble_ledger.errors import GaveWay, TargetUnreachable

_MADE = "humble_made"
# Counters are not rolled back: an ANALYZE of ours would count as one that lasts, and keep the
# server's own from coming; our scans would make an unused index look used.
_UNCOUNTED_SQL = """
SELECT set_config('track_counts', 'off', false) WHERE current_setting('is_superuser') = 'on'
"""


@dataclass(slots=True)
class UncommittedChange:
    """The two arms, and what the builds took."""

    before: PostgresArm
    after: PostgresArm
    builds: list[IndexBuild]
    inside: Connection
    outside: Connection
    schemas: dict[str, str]
    writes: bool

    def local_processes(self) -> tuple[int, ...]:
        """The server's processes of the two connections, where they are known to run here."""
        found = [local_process(each) for each in (self.outside, self.inside)]
        return tuple(each for each in found if each is not None) if all(found) else ()

    @contextlib.contextmanager
    def lacking(self, name: str) -> Iterator[tuple[Arm, Arm]]:
        """The arm without one of the indexes, and the one with all: both hide before each run."""
        with translated():
            # A transaction that may only read cannot be told to write again, except by going
            # back to where it still could.
            self.inside.execute(f"ROLLBACK TO SAVEPOINT {_MADE}")
        arms = (
            _Hiding(self.after, self.inside, hidden_sql(self.schemas[name], name), hidden=hidden)
            for hidden in (True, False)
        )
        try:
            yield next(arms), next(arms)
        finally:
            with contextlib.suppress(psycopg.Error):
                _only_reading(self.inside, writes=self.writes)


@dataclass(frozen=True, slots=True)
class _Hiding:
    """An arm before whose every statement an index is hidden, for the statement or in vain.

    Hiding makes the server forget what it knows of the table; so that both sides pay for
    that, the side with all indexes hides one and takes it back.
    """

    arm: PostgresArm
    connection: Connection
    statement: str
    hidden: bool

    def run(self, statement: Statement) -> Outcome:
        with self._prepared():
            return self.arm.run(statement)

    def explain(self, statement: Statement, *, measure: bool) -> PlanDocument:
        with self._prepared():
            return self.arm.explain(statement, measure=measure)

    def result_rows(self, statement: Statement) -> Iterable[tuple[bytes | None, ...]]:
        with self._prepared():
            yield from self.arm.result_rows(statement)

    @contextlib.contextmanager
    def _prepared(self) -> Iterator[None]:
        self.connection.execute("SAVEPOINT humble_hidden")
        self.connection.execute(self.statement.encode())
        if not self.hidden:
            self.connection.execute("ROLLBACK TO SAVEPOINT humble_hidden")
        try:
            yield
        finally:
            with contextlib.suppress(psycopg.Error):
                self.connection.execute("ROLLBACK TO SAVEPOINT humble_hidden")


@contextlib.contextmanager
def uncommitted_change(
    url: str, change: Change, mark: str, limits: Limits
) -> Iterator[UncommittedChange]:
    """Make a change that one arm sees; roll back at the end.

    Raises:
        LockNotGranted: a writer holds the table; nothing was changed.
        StatementRejected: the server refuses to build; nothing was changed.
        GaveWay: somebody waited too long for the table; the change was taken back.
    """
    # The lock timeout stays short: while we wait for our lock, new writers queue behind us.
    building = replace(limits, statement_ms=BUILD_TIMEOUT_MS)
    inside = connect(url, building, mark=mark, read_only=False)
    try:
        outside = connect(url, limits, mark=mark, read_only=not change.writes)
        try:
            with yielding(url, inside, mark, limits) as watch:
                try:
                    builds = _made(inside, outside, change, limits)
                    guard = undone_savepoint if change.writes else kept_savepoint
                    yield UncommittedChange(
                        PostgresArm(outside, guard),
                        PostgresArm(inside, guard),
                        builds,
                        inside,
                        outside,
                        {index.name: index.schema for index in change.indexes},
                        change.writes,
                    )
                except TargetUnreachable as error:
                    if watch.gave_way_ms is not None:
                        raise GaveWay(watch.gave_way_ms) from error
                    raise
        finally:
            end(outside)
    finally:
        with contextlib.suppress(psycopg.Error):
            inside.rollback()
        end(inside)


def _made(
    inside: Connection, outside: Connection, change: Change, limits: Limits
) -> list[IndexBuild]:
    """Make the change, and leave both sides ready to be run on."""
    with translated():
        if not change.writes:
            inside.execute(_UNCOUNTED_SQL)
            outside.execute(_UNCOUNTED_SQL)
        inside.execute("BEGIN")
        inside.look_as_the_user()
    builds = make(inside, change)
    with translated():
        inside.execute(
            "SELECT pg_catalog.set_config('statement_timeout', %s, true)",
            (str(limits.statement_ms),),
        )
        inside.execute(f"SAVEPOINT {_MADE}")
        _only_reading(inside, writes=change.writes)
        outside.execute("BEGIN READ WRITE" if change.writes else "BEGIN READ ONLY")
        outside.look_as_the_user()
    return builds


def _only_reading(inside: Connection, *, writes: bool) -> None:
    """From here on this side may only read, as the other one does."""
    if not writes:
        inside.execute("SET TRANSACTION READ ONLY")
