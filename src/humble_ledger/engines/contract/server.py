"""A server at an address: what can be asked of it and done on it, each when it is needed."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from typing import Protocol

from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.engines.contract.hollow import Hollow
from humble_ledger.engines.contract.lab import (
    AdminSession,
    Change,
    Client,
    Experiment,
    Leftovers,
    SequentialExperiment,
    WriteRuns,
)
from humble_ledger.engines.contract.session import Session


class Server(Protocol):
    """What `Engine.connect` gives: an address with its limits and the mark of our sessions.

    Nothing is opened before something is asked. Each method raises `TargetUnreachable` when the
    server does not answer or does not let us in.
    """

    @property
    def hollow_holds_rows(self) -> bool:
        """Whether its `hollow` has rows of the target in it, and not statistics alone."""
        ...

    def session(self) -> Session:
        """Open a read-only session."""
        ...

    def experiment(self, change: Change) -> AbstractContextManager[Experiment]:
        """Make a change where only one arm sees it, and undo it at the end.

        Raises:
            GaveWay: somebody waited too long for the table; the change was taken back.
        """
        ...

    def stages(
        self, change: Change, *, online: bool
    ) -> AbstractContextManager[SequentialExperiment]:
        """One arm on which a change is made and unmade; it is undone at the end in any case.

        ``online``: for all sessions, while writers pass; else in a transaction of our own.
        """
        ...

    def write_runs(
        self, table: TableFacts, index_on: Callable[[TableName], str], updated: Sequence[str]
    ) -> WriteRuns:
        """Time writes on two copies of a table, one of them with an index; all is rolled back.

        ``index_on`` gives the statement that builds the index on a table of that name;
        ``updated`` are the columns that updates should set, as far as they can.
        """
        ...

    def admin(self) -> AbstractContextManager[AdminSession]:
        """A connection that may write, with the limits on waiting for locks."""
        ...

    def client(self, *, writes: bool) -> Client:
        """A connection for a replay; read-only unless ``writes``."""
        ...

    def hollow(
        self, progress: Callable[[str], None] = ..., *, keep: bool = True
    ) -> AbstractContextManager[Hollow]:
        """A copy of the target on a server of ours, without its rows or with some of them.

        With ``keep`` it may stay for the next time, for as long as it is true.

        Raises:
            TargetUnreachable: the target does not answer, its schema cannot be read, or no server
                can be started here.
        """
        ...

    def reproduction(self, tables: Sequence[TableName]) -> str:
        """SQL that makes these tables without rows, with the statistics that plans rest on.

        Needs `Capability.REPRODUCTION`.
        """
        ...

    def gathered_for_all(self, change: Change) -> Sequence[str]:
        """What `stages` would gather for every session, by the names that `leftovers` knows.

        Only asked of a server without `Capability.UNCOMMITTED_STATISTICS`.

        Raises:
            RefusedForSafety: some are there already, and could not be brought back.
        """
        ...

    def leftovers(self, indexes: Sequence[tuple[str, str]]) -> Leftovers:
        """What is left on the target of these indexes (schema, name) and statistics ("", name),
        and of sessions carrying the mark. Of an index whose name does not bear the mark only an
        unfinished build is.
        """
        ...

    def remove_leftovers(self, left: Leftovers) -> None:
        """Remove them."""
        ...
