"""A MariaDB or MySQL at an address: each method is a call into the module that knows how."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import ClassVar

from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.engines.contract import (
    AdminSession,
    Change,
    Client,
    Experiment,
    Hollow,
    Leftovers,
    Limits,
    SequentialExperiment,
    WriteRuns,
)
from humble_ledger.engines.mysql import leftovers
from humble_ledger.engines.mysql.applying import hands
from humble_ledger.engines.mysql.client import MysqlClient
from humble_ledger.engines.mysql.experiment import experiment
from humble_ledger.engines.mysql.session import MysqlSession
from humble_ledger.engines.mysql.stages import gathered_for_all, stages
from humble_ledger.engines.mysql.writing import write_runs
from humble_ledger.errors import WrongUsage

NO_FILES = (
    "A copy of such a server is made from the server itself, and not from files.",
    "Name the server:  humble init mariadb://user@host/database",
)


@dataclass(frozen=True, slots=True)
class MysqlServer:
    """See `engines.contract.Server`; ``member`` is the engine's name."""

    hollow_holds_rows: ClassVar[bool] = True
    url: str
    member: str
    limits: Limits = Limits()  # noqa: RUF009
    mark: str = ""

    def session(self) -> MysqlSession:
        """Open a read-only session."""
        return MysqlSession(self.url, self.limits, self.member)

    def experiment(self, change: Change) -> AbstractContextManager[Experiment]:
        """Build indexes online, and let one side ignore them."""
        return experiment(self.url, change, self.mark, self.limits, self.member)

    def stages(
        self, change: Change, *, online: bool
    ) -> AbstractContextManager[SequentialExperiment]:
        """Build indexes online and drop them, for every session."""
        return stages(self.url, change, self.mark, self.limits, self.member)

    def write_runs(
        self, table: TableFacts, index_on: Callable[[TableName], str], updated: Sequence[str]
    ) -> WriteRuns:
        """Time writes on two temporary copies."""
        return write_runs(self.url, table, index_on, updated, self.mark, self.limits)

    def admin(self) -> AbstractContextManager[AdminSession]:
        """A connection that may write."""
        return hands(self.url, self.limits, self.mark)

    def client(self, *, writes: bool) -> Client:
        """A connection for a replay."""
        return MysqlClient(self.url, self.mark, self.limits, self.member, writes=writes)

    def hollow(
        self, progress: Callable[[str], None] = lambda _: None, *, keep: bool = True
    ) -> AbstractContextManager[Hollow]:
        """A copy with rows like the target's."""
        # The launcher and what makes rows are not needed by most commands.
        from humble_ledger.engines.mysql.hollow.making import hollow_of  # noqa: PLC0415

        return hollow_of(self.url, self.limits, self.member, progress, keep=keep)

    def reproduction(self, tables: Sequence[TableName]) -> str:
        """Not here: what the planner finds in indexes is in no statistics."""
        raise WrongUsage(*NO_FILES)

    def gathered_for_all(self, change: Change) -> Sequence[str]:
        """Statistics of columns, none of which is there now."""
        return gathered_for_all(self.url, change, self.mark, self.limits)

    def leftovers(self, indexes: Sequence[tuple[str, str]]) -> Leftovers:
        """What a broken-off trial left."""
        return leftovers.leftovers(self.url, indexes, self.mark)

    def remove_leftovers(self, left: Leftovers) -> None:
        """Remove it."""
        leftovers.remove_leftovers(self.url, left)
