"""One kind of server: addresses, sessions, trials, and how its plans are written."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Protocol

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.results.suppositions import KeptHollow
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
from humble_ledger.engines.contract.limits import Limits
from humble_ledger.engines.contract.logs import LogFormat
from humble_ledger.engines.contract.plans import PlanFormat
from humble_ledger.engines.contract.server import Session


class Engine(Protocol):
    """One kind of server."""

    name: str
    plans: PlanFormat
    dialect: Dialect
    logs: Sequence[LogFormat]

    def public_url(self, url: str) -> str:
        """The URL without its password: the only form that is stored or shown."""
        ...

    def not_kept(self, url: str) -> tuple[str, ...]:
        """The parameters of a URL that its public form leaves out, without their values."""
        ...

    def open(self, url: str, limits: Limits = ...) -> Session:
        """Open a read-only session."""
        ...

    def experiment(
        self,
        url: str,
        change: Change,
        mark: str,
        limits: Limits = ...,
    ) -> AbstractContextManager[Experiment]:
        """Make a change where only one arm sees it, and undo it at the end.

        Raises:
            GaveWay: somebody waited too long for the table; the change was taken back.
        """
        ...

    def stages(
        self, url: str, change: Change, mark: str, limits: Limits = ..., *, online: bool
    ) -> AbstractContextManager[SequentialExperiment]:
        """One arm on which a change is made and unmade; it is undone at the end in any case.

        ``online``: for all sessions, while writers pass; else in a transaction of our own.
        """
        ...

    def write_runs(
        self,
        url: str,
        table: TableFacts,
        index_on: Callable[[TableName], str],
        updated: Sequence[str],
        mark: str,
        limits: Limits = ...,
    ) -> WriteRuns:
        """Time writes on two copies of a table, one of them with an index; all is rolled back.

        ``index_on`` gives the statement that builds the index on a table of that name;
        ``updated`` are the columns that updates should set, as far as they can.
        """
        ...

    def hands(
        self, url: str, limits: Limits = ..., mark: str = ...
    ) -> AbstractContextManager[AdminSession]:
        """A connection that may write, with the limits on waiting for locks."""
        ...

    def client(self, url: str, mark: str, limits: Limits = ..., *, writes: bool) -> Client:
        """A connection for a replay; read-only unless ``writes``."""
        ...

    def hollow(
        self,
        url: str,
        limits: Limits = ...,
        progress: Callable[[str], None] = ...,
        *,
        keep: bool = True,
    ) -> AbstractContextManager[Hollow]:
        """A copy of the target without its rows, on a server of ours.

        With ``keep`` it may stay for the next time, for as long as it is true.

        Raises:
            TargetUnreachable: the target does not answer, its schema cannot be read, or no server
                can be started here.
        """
        ...

    def reproduction(self, url: str, tables: Sequence[TableName]) -> str:
        """SQL that makes these tables without rows, with the statistics that plans rest on.

        Needs `Capability.REPRODUCTION`.

        Raises:
            TargetUnreachable: the target cannot be read.
        """
        ...

    def kept_hollows(self) -> Sequence[KeptHollow]:
        """The copies without rows that lie on this machine."""
        ...

    def build_hollow(
        self,
        name: str,
        files: Sequence[Path],
        settings: Sequence[tuple[str, str]],
        progress: Callable[[str], None] = ...,
    ) -> KeptHollow:
        """Make a copy from files in place of a server; ``hollow:NAME`` is its address.

        ``settings`` are those of the planner that differ from a new server's.

        Raises:
            UnreadableInput: the files hold no schema that can be read.
            TargetUnreachable: no server can be started here.
        """
        ...

    def drop_hollows(self, names: Sequence[str] = ()) -> Sequence[str]:
        """Remove those made from files of these names, or all there are.

        Those are returned that could not be removed, as a command is using them.

        Raises:
            WrongUsage: there is none of a name.
        """
        ...

    def leftovers(self, url: str, indexes: Sequence[tuple[str, str]], mark: str) -> Leftovers:
        """What is left on the target of these indexes (schema, name), and of sessions carrying
        this mark. Of an index whose name does not bear the mark only an unfinished build is.
        """
        ...

    def remove_leftovers(self, url: str, left: Leftovers) -> None:
        """Remove them."""
        ...
