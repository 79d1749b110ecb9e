"""Trials on two copies of the file, of which one has the change; the file is never written."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import apsw

from humble_ledger.core.statements.kinds import Statement, StatementKind, kind_of
from humble_ledger.engines.contract import Change, IndexBuild, Limits, Outcome, PlanDocument
from humble_ledger.engines.sqlite import explain
from humble_ledger.engines.sqlite.behind import keep_keys
from humble_ledger.engines.sqlite.building import built, dropped
from humble_ledger.engines.sqlite.copies import copy_of, second_copy
from humble_ledger.engines.sqlite.faults import translated
from humble_ledger.engines.sqlite.ground import Ground
from humble_ledger.engines.sqlite.guard import Guard
from humble_ledger.engines.sqlite.one_statement import execute
from humble_ledger.engines.sqlite.reading import Reader, limited, opened
from humble_ledger.engines.sqlite.values import as_text, prepared


@dataclass(slots=True)
class SqliteArm:
    """One side: a connection to one of the copies."""

    path: Path
    limits: Limits
    connection: apsw.Connection
    guard: Guard
    _ground: Ground | None = None

    @staticmethod
    def on(copy: Path, limits: Limits) -> SqliteArm:
        """A connection that may write: it is a copy."""
        guard = Guard(writes=True)
        connection = opened(copy, guard, writes=True)
        # Nobody needs the copy after a crash.
        guard.ours = True
        connection.execute("PRAGMA synchronous = OFF").fetchall()
        # All of it in one file, so that it can be copied once more.
        connection.execute("PRAGMA journal_mode = DELETE").fetchall()
        guard.ours = False
        keep_keys(connection)
        return SqliteArm(copy, limits, connection, guard)

    def run(self, statement: Statement) -> Outcome:
        """Run a statement, fetch its result, and take back what it changed."""
        with self._within(statement):
            return explain.outcome(self.connection, statement)

    def explain(self, statement: Statement, *, measure: bool) -> PlanDocument:
        """Explain a statement on this side."""
        with self._within(statement):
            work = explain.run(self.connection, statement) if measure else None
        ground = self.ground()
        with translated(self.path):
            found = explain.listing(self.connection, statement, ground.schema)
        return explain.explained(found, statement, ground.schema, ground, work)

    def result_rows(self, statement: Statement) -> Iterator[tuple[bytes | None, ...]]:
        """Run a statement and hand over its rows as texts."""
        with self._within(statement):
            for row in execute(self.connection, *prepared(statement)):
                yield tuple(as_text(value) for value in row)

    def ground(self) -> Ground:
        """What is known of this copy, read when first asked for."""
        if self._ground is None:
            self._ground = Ground(Reader(self.path, self.limits.statement_ms))
            self._ground.refresh()
        return self._ground

    def change(self, sql: str) -> None:
        """Run a statement of a remedy."""
        with translated(self.path), limited(self.connection, self.limits.statement_ms):
            execute(self.connection, sql).fetchall()
        self._ground = None

    def close(self) -> None:
        """End it."""
        if self._ground is not None:
            self._ground.reader.close()
        self.connection.close()

    @contextmanager
    def _within(self, statement: Statement) -> Iterator[None]:
        writes = kind_of(statement.sql) is not StatementKind.READS
        with translated(self.path), limited(self.connection, self.limits.statement_ms):
            if writes:
                self.connection.execute("BEGIN")
            try:
                yield
            finally:
                if writes:
                    self.connection.execute("ROLLBACK")


@dataclass(slots=True)
class SqliteExperiment:
    """See `engines.contract.Experiment`."""

    before: SqliteArm
    after: SqliteArm
    builds: Sequence[IndexBuild]

    def local_processes(self) -> tuple[int, ...]:
        """None but our own: both sides are run by it."""
        return ()

    @contextmanager
    def lacking(self, name: str) -> Iterator[tuple[SqliteArm, SqliteArm]]:
        """A third copy with the whole change but one index, beside the one with all of it."""
        self.after.connection.cache_flush()
        copy = second_copy(self.after.path, "lacking.db")
        arm = SqliteArm.on(copy, self.after.limits)
        try:
            with translated(copy):
                dropped(arm.connection, name)
            yield arm, self.after
        finally:
            arm.close()
            with contextlib.suppress(OSError):
                copy.unlink()


@contextmanager
def experiment(path: Path, change: Change, mark: str, limits: Limits) -> Iterator[SqliteExperiment]:
    """Make a change on one of two copies.

    An index to be removed is gone from the side after; others are built there.
    """
    with copy_of(path, mark) as copy:
        other = second_copy(copy, "after.db")
        arms: list[SqliteArm] = []
        try:
            before, after = (SqliteArm.on(each, limits) for each in (copy, other))
            arms += [before, after]
            with translated(path):
                builds = [built(after.connection, index) for index in change.indexes]
                for _, name in change.hidden:
                    dropped(after.connection, name)
            for sql in change.others:
                after.change(sql)
            yield SqliteExperiment(before, after, builds)
        finally:
            for arm in arms:
                arm.close()
