"""PostgreSQL as an engine: the contract's methods, each a call into the module that knows."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import TYPE_CHECKING

from humble_ledger.core.results.suppositions import KeptHollow
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
from humble_ledger.engines.postgresql.dialect import POSTGRESQL
from humble_ledger.engines.postgresql.hollow import house, named
from humble_ledger.engines.postgresql.hollow.making import hollow_of
from humble_ledger.engines.postgresql.logs.formats import LOGS
from humble_ledger.engines.postgresql.plans.format import PostgresPlans
from humble_ledger.engines.postgresql.plans.reader import ENGINE
from humble_ledger.engines.postgresql.reproducing import reproduction
from humble_ledger.engines.postgresql.session import PostgresSession
from humble_ledger.errors import StatementRejected

if TYPE_CHECKING:
    from humble_ledger.engines.postgresql.others.session import OtherSession


class PostgresEngine:
    """See `engines.contract.Engine`."""

    name = ENGINE
    plans = PostgresPlans()
    dialect = POSTGRESQL
    logs = LOGS

    def public_url(self, url: str) -> str:
        """The URL without its password."""
        return url if named.is_named(url) else connection.public_url(url)

    def not_kept(self, url: str) -> tuple[str, ...]:
        """The parameters that the public form leaves out."""
        return () if named.is_named(url) else connection.not_kept(url)

    def open(self, url: str, limits: Limits = Limits()) -> Session:  # noqa: B008
        """Open a read-only session; another one where the server is another."""
        if named.is_named(url):
            return named.session_of(url, limits)
        try:
            return PostgresSession(url, limits)
        except connection.AnotherServer:
            return _other_session(url, limits)
        except StatementRejected:
            # It says that it is PostgreSQL, and refuses what every version of that answers.
            other = _other_session(url, limits)
            if other.is_postgresql:
                other.close()
                raise
            return other

    def experiment(
        self,
        url: str,
        change: Change,
        mark: str,
        limits: Limits = Limits(),  # noqa: B008
    ) -> AbstractContextManager[Experiment]:
        """Make a change inside a transaction that only one arm sees; it is rolled back."""
        return experiment.uncommitted_change(url, change, mark, limits)

    def stages(
        self,
        url: str,
        change: Change,
        mark: str,
        limits: Limits = Limits(),  # noqa: B008
        *,
        online: bool,
    ) -> AbstractContextManager[SequentialExperiment]:
        """One arm on which a change is made and unmade."""
        way = stages.online if online else stages.in_transaction
        return way(url, change, mark, limits)

    def write_runs(
        self,
        url: str,
        table: TableFacts,
        index_on: Callable[[TableName], str],
        updated: Sequence[str],
        mark: str,
        limits: Limits = Limits(),  # noqa: B008
    ) -> WriteRuns:
        """Time writes on two copies of a table, one of them with an index."""
        return write_costs.write_runs(url, table, index_on, updated, mark, limits)

    def hands(
        self,
        url: str,
        limits: Limits = Limits(),  # noqa: B008
        mark: str = "settle",
    ) -> AbstractContextManager[AdminSession]:
        """A connection that may write."""
        return applying.hands(url, limits, mark)

    def client(
        self,
        url: str,
        mark: str,
        limits: Limits = Limits(),  # noqa: B008
        *,
        writes: bool,
    ) -> Client:
        """A connection for a replay."""
        return PostgresClient(url, mark, limits, writes=writes)

    def hollow(
        self,
        url: str,
        limits: Limits = Limits(),  # noqa: B008
        progress: Callable[[str], None] = lambda _: None,
        *,
        keep: bool = True,
    ) -> AbstractContextManager[Hollow]:
        """A copy of the target without its rows."""
        if named.is_named(url):
            return named.asked_hollow(url, limits)
        return hollow_of(url, limits, progress, keep=keep)

    def reproduction(self, url: str, tables: Sequence[TableName]) -> str:
        """Schema and statistics, by the server's own program."""
        return reproduction(url, tables)

    def kept_hollows(self) -> Sequence[KeptHollow]:
        """The copies without rows that lie on this machine."""
        return [self._kept(*each) for each in (*house.all_kept(), *named.kept())]

    def _kept(self, record: house.Record, folder: Path) -> KeptHollow:
        return KeptHollow(
            record.target, record.made_at, self.name, record.version, str(folder),
            house.size_of(folder), record.notes,
        )  # fmt: skip

    def build_hollow(
        self,
        name: str,
        files: Sequence[Path],
        settings: Sequence[tuple[str, str]],
        progress: Callable[[str], None] = lambda _: None,
    ) -> KeptHollow:
        """Make a copy from files, to be a target without a server."""
        return self._kept(*named.build(name, files, settings, progress))

    def drop_hollows(self, names: Sequence[str] = ()) -> Sequence[str]:
        """Remove these, or all; the folders that could not be, as a command is using them."""
        if names:
            return [name for name in names if not named.removed(name)]
        folders = [*house.kept_houses(), *named.folders()]
        return [str(folder) for folder in folders if not house.removed(folder)]

    def leftovers(self, url: str, indexes: Sequence[tuple[str, str]], mark: str) -> Leftovers:
        """What a broken-off trial left on the target."""
        return leftovers.find(url, indexes, mark)

    def remove_leftovers(self, url: str, left: Leftovers) -> None:
        """Remove them."""
        leftovers.remove(url, left)


def _other_session(url: str, limits: Limits) -> OtherSession:
    from humble_ledger.engines.postgresql.others.session import OtherSession  # noqa: PLC0415

    return OtherSession(url, limits)
