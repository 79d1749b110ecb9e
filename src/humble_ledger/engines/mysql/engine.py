"""MariaDB and MySQL as engines; see `engines.contract.Engine`."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from pathlib import Path

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
    LogFormat,
    SequentialExperiment,
    WriteRuns,
)
from humble_ledger.engines.contract.plans import PlanFormat
from humble_ledger.engines.mysql import address, leftovers
from humble_ledger.engines.mysql.applying import hands
from humble_ledger.engines.mysql.client import MysqlClient
from humble_ledger.engines.mysql.dialect import FAMILY
from humble_ledger.engines.mysql.experiment import experiment
from humble_ledger.engines.mysql.plans.format import MARIADB, MYSQL, MariadbPlans, MysqlPlans
from humble_ledger.engines.mysql.session import MysqlSession
from humble_ledger.engines.mysql.slow_log import LOGS
from humble_ledger.engines.mysql.stages import stages
from humble_ledger.engines.mysql.writing import write_runs
from humble_ledger.errors import WrongUsage

_LIMITS = Limits()
_NO_FILES = (
    "A copy of such a server is made from the server itself, and not from files.",
    "Name the server:  humble init mariadb://user@host/database",
)


class _Family:
    """Either member."""

    name = MYSQL
    plans: PlanFormat = MysqlPlans()
    dialect = FAMILY
    logs: Sequence[LogFormat] = LOGS

    def public_url(self, url: str) -> str:
        """The URL without its password."""
        return address.public_url(url)

    def not_kept(self, url: str) -> tuple[str, ...]:
        """The parameters that the public form leaves out."""
        return address.not_kept(url)

    def open(self, url: str, limits: Limits = _LIMITS) -> MysqlSession:
        """Open a read-only session."""
        return MysqlSession(url, limits, self.name)

    def experiment(
        self, url: str, change: Change, mark: str, limits: Limits = _LIMITS
    ) -> AbstractContextManager[Experiment]:
        """Build indexes online, and let one side ignore them."""
        return experiment(url, change, mark, limits, self.name)

    def stages(
        self, url: str, change: Change, mark: str, limits: Limits = _LIMITS, *, online: bool
    ) -> AbstractContextManager[SequentialExperiment]:
        """Build indexes online and drop them, for every session."""
        return stages(url, change, mark, limits, self.name)

    def write_runs(
        self,
        url: str,
        table: TableFacts,
        index_on: Callable[[TableName], str],
        updated: Sequence[str],
        mark: str,
        limits: Limits = _LIMITS,
    ) -> WriteRuns:
        """Time writes on two temporary copies."""
        return write_runs(url, table, index_on, updated, mark, limits)

    def hands(
        self, url: str, limits: Limits = _LIMITS, mark: str = ""
    ) -> AbstractContextManager[AdminSession]:
        """A connection that may write."""
        return hands(url, limits, mark)

    def client(self, url: str, mark: str, limits: Limits = _LIMITS, *, writes: bool) -> Client:
        """A connection for a replay."""
        return MysqlClient(url, mark, limits, self.name, writes=writes)

    def hollow(
        self,
        url: str,
        limits: Limits = _LIMITS,
        progress: Callable[[str], None] = lambda _: None,
        *,
        keep: bool = True,
    ) -> AbstractContextManager[Hollow]:
        """A copy with rows like the target's, for as long as it is asked; it is not kept."""
        # The launcher and what makes rows are not needed by most commands.
        from humble_ledger.engines.mysql.hollow.asking import hollow_of  # noqa: PLC0415

        return hollow_of(url, limits, self.name, progress)

    def reproduction(self, url: str, tables: Sequence[TableName]) -> str:
        """Not here: what the planner finds in indexes is in no statistics."""
        raise WrongUsage(*_NO_FILES)

    def kept_hollows(self) -> Sequence[KeptHollow]:
        """There are none."""
        return ()

    def build_hollow(
        self,
        name: str,
        files: Sequence[Path],
        settings: Sequence[tuple[str, str]],
        progress: Callable[[str], None] = lambda _: None,
    ) -> KeptHollow:
        """Not from files."""
        raise WrongUsage(*_NO_FILES)

    def drop_hollows(self, names: Sequence[str] = ()) -> Sequence[str]:
        """There is nothing to drop."""
        return ()

    def leftovers(self, url: str, indexes: Sequence[tuple[str, str]], mark: str) -> Leftovers:
        """What a broken-off trial left."""
        return leftovers.leftovers(url, indexes, mark)

    def remove_leftovers(self, url: str, left: Leftovers) -> None:
        """Remove it."""
        leftovers.remove_leftovers(url, left)


class MysqlEngine(_Family):
    """MySQL, from 8.0 on."""


class MariadbEngine(_Family):
    """MariaDB, from 10.6 on."""

    name = MARIADB
    plans = MariadbPlans()
