"""A PostgreSQL at an address: each method is a call into the module that knows how."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

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
    Session,
    WriteRuns,
)
from humble_ledger.engines.postgresql import (
    applying,
    connection,
    experiment,
    leftovers,
    stages,
    write_costs,
)
from humble_ledger.engines.postgresql.client import PostgresClient
from humble_ledger.engines.postgresql.hollow import named
from humble_ledger.engines.postgresql.hollow.making import hollow_of
from humble_ledger.engines.postgresql.reproducing import reproduction
from humble_ledger.engines.postgresql.session import PostgresSession
from humble_ledger.errors import StatementRejected

if TYPE_CHECKING:
    from humble_ledger.engines.postgresql.others.session import OtherSession


@dataclass(frozen=True, slots=True)
class PostgresServer:
    """See `engines.contract.Server`."""

    hollow_holds_rows: ClassVar[bool] = False
    url: str
    limits: Limits = Limits()  # noqa: RUF009
    mark: str = ""

    def session(self) -> Session:
        """Open a read-only session; another one where the server is another."""
        if named.is_named(self.url):
            return named.session_of(self.url, self.limits)
        try:
            return PostgresSession(self.url, self.limits)
        except connection.AnotherServer:
            return self._other_session()
        except StatementRejected:
            # It says that it is PostgreSQL, and refuses what every version of that answers.
            other = self._other_session()
            if other.is_postgresql:
                other.close()
                raise
            return other

    def _other_session(self) -> OtherSession:
        from humble_ledger.engines.postgresql.others.session import OtherSession  # noqa: PLC0415

        return OtherSession(self.url, self.limits)

    def experiment(self, change: Change) -> AbstractContextManager[Experiment]:
        """Make a change inside a transaction that only one arm sees; it is rolled back."""
        return experiment.uncommitted_change(self.url, change, self.mark, self.limits)

    def stages(
        self, change: Change, *, online: bool
    ) -> AbstractContextManager[SequentialExperiment]:
        """One arm on which a change is made and unmade."""
        way = stages.online if online else stages.in_transaction
        return way(self.url, change, self.mark, self.limits)

    def write_runs(
        self, table: TableFacts, index_on: Callable[[TableName], str], updated: Sequence[str]
    ) -> WriteRuns:
        """Time writes on two copies of a table, one of them with an index."""
        return write_costs.write_runs(self.url, table, index_on, updated, self.mark, self.limits)

    def admin(self) -> AbstractContextManager[AdminSession]:
        """A connection that may write."""
        return applying.hands(self.url, self.limits, self.mark or "settle")

    def client(self, *, writes: bool) -> Client:
        """A connection for a replay."""
        return PostgresClient(self.url, self.mark, self.limits, writes=writes)

    def hollow(
        self, progress: Callable[[str], None] = lambda _: None, *, keep: bool = True
    ) -> AbstractContextManager[Hollow]:
        """A copy of the target without its rows."""
        if named.is_named(self.url):
            return named.asked_hollow(self.url, self.limits)
        return hollow_of(self.url, self.limits, progress, keep=keep)

    def reproduction(self, tables: Sequence[TableName]) -> str:
        """Schema and statistics, by the server's own program."""
        return reproduction(self.url, tables)

    def gathered_for_all(self, change: Change) -> Sequence[str]:
        """None: they are rolled back."""
        return ()

    def leftovers(self, indexes: Sequence[tuple[str, str]]) -> Leftovers:
        """What a broken-off trial left on the target."""
        return leftovers.find(self.url, indexes, self.mark)

    def remove_leftovers(self, left: Leftovers) -> None:
        """Remove them."""
        leftovers.remove(self.url, left)
