"""A change that is made and unmade on one connection, one stage after the other.

For what cannot be had on two connections at once: statements that write (the uncommitted
index would make the other side wait), and indexes built online, which everybody sees.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass, field, replace

import psycopg

from humble_ledger.engines.contract import Change, IndexBuild, Limits, NewIndex
from humble_ledger.engines.postgresql.applying import hands
from humble_ledger.engines.postgresql.arm import PostgresArm, kept_savepoint, undone_savepoint
from humble_ledger.engines.postgresql.building import BUILD_TIMEOUT_MS, build, make
from humble_ledger.engines.postgresql.connection import Connection, connect, end
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.transactions import reading, undone
from humble_ledger.errors import HumbleError

_MADE = "humble_made"


@dataclass(slots=True)
class _InTransaction:
    """The change in a transaction of our own, which ends with ROLLBACK."""

    arm: PostgresArm
    connection: Connection
    change: Change
    limits: Limits
    builds: list[IndexBuild] = field(default_factory=list)

    def make(self) -> None:
        with translated():
            self.connection.execute(f"SAVEPOINT {_MADE}")
            self._patience(BUILD_TIMEOUT_MS)
        self.builds = make(self.connection, self.change)
        with translated():
            self._patience(self.limits.statement_ms)

    def unmake(self) -> None:
        with translated():
            self.connection.execute(f"ROLLBACK TO SAVEPOINT {_MADE}")

    def _patience(self, milliseconds: int) -> None:
        self.connection.execute(
            "SELECT pg_catalog.set_config('statement_timeout', %s, true)", (str(milliseconds),)
        )


@contextlib.contextmanager
def in_transaction(url: str, change: Change, mark: str, limits: Limits) -> Iterator[_InTransaction]:
    """One transaction in which a change is made and unmade; rolled back however it ends."""
    connection = connect(url, limits, mark=mark, read_only=False)
    try:
        with translated():
            connection.execute("BEGIN READ WRITE")
            connection.look_as_the_user()
        guard = undone_savepoint if change.writes else kept_savepoint
        yield _InTransaction(PostgresArm(connection, guard), connection, change, limits)
    finally:
        with contextlib.suppress(psycopg.Error):
            connection.rollback()
        end(connection)


@dataclass(slots=True)
class _Online:
    """Indexes that are built and dropped while writers pass; between, every session sees them."""

    arm: PostgresArm
    connection: Connection
    url: str
    change: Change
    mark: str
    limits: Limits
    builds: list[IndexBuild] = field(default_factory=list)
    made: list[NewIndex] = field(default_factory=list)

    def make(self) -> None:
        # It waits for older transactions only, and lets all others pass: no need to hurry.
        patient = replace(self.limits, statement_ms=BUILD_TIMEOUT_MS, lock_ms=BUILD_TIMEOUT_MS)
        connection = connect(self.url, patient, mark=self.mark, read_only=False, as_the_user=True)
        try:
            for index in self.change.indexes:
                self.made.append(index)  # first: a build broken off leaves an unfinished one
                self.builds.append(build(connection, index, online=True))
        finally:
            connection.close()

    def unmake(self) -> None:
        patient = replace(self.limits, lock_ms=BUILD_TIMEOUT_MS)
        with hands(self.url, patient, self.mark) as able:
            while self.made:
                index = self.made[-1]
                if not able.drop_if_invalid(index.schema, index.name):
                    able.do(index.drop_online_sql)
                self.made.pop()


@contextlib.contextmanager
def online(url: str, change: Change, mark: str, limits: Limits) -> Iterator[_Online]:
    """Indexes built and dropped online; what was made is dropped however it ends.

    Raises:
        LockNotGranted: older transactions did not end; nothing is left.
    """
    connection = connect(url, limits, mark=mark, read_only=not change.writes)
    try:
        guard = undone if change.writes else reading
        stages = _Online(PostgresArm(connection, guard), connection, url, change, mark, limits)
        try:
            yield stages
        finally:
            if stages.made:
                # Dropping waits for every transaction on the table: ours must not be one.
                end(connection)
                # Whatever cannot be dropped now is in the ledger, and told as left behind.
                with contextlib.suppress(HumbleError):
                    stages.unmake()
    finally:
        end(connection)
