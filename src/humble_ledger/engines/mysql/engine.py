"""MariaDB and MySQL as engines; see `engines.contract.Engine`."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from humble_ledger.core.results.suppositions import KeptHollow
from humble_ledger.engines.contract import Limits, LogFormat
from humble_ledger.engines.contract.plans import PlanFormat
from humble_ledger.engines.launching.keeping import size_of
from humble_ledger.engines.mysql import address
from humble_ledger.engines.mysql.dialect import FAMILY
from humble_ledger.engines.mysql.plans.format import MARIADB, MYSQL, MariadbPlans, MysqlPlans
from humble_ledger.engines.mysql.server import NO_FILES, MysqlServer
from humble_ledger.engines.mysql.slow_log import LOGS
from humble_ledger.errors import WrongUsage

_LIMITS = Limits()


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

    def connect(self, url: str, limits: Limits = _LIMITS, mark: str = "") -> MysqlServer:
        """The server at an address."""
        return MysqlServer(url, self.name, limits, mark)

    def kept_hollows(self) -> Sequence[KeptHollow]:
        """The copies that lie on this machine, with sampled rows of their targets."""
        from humble_ledger.engines.mysql.hollow import kept  # noqa: PLC0415 - not for every start

        return [
            KeptHollow(
                record.target, record.made_at, self.name, record.version, str(folder),
                size_of(folder), record.notes,
            )
            for record, folder in kept.all_kept(self.name)
        ]  # fmt: skip

    def build_hollow(
        self,
        name: str,
        files: Sequence[Path],
        settings: Sequence[tuple[str, str]],
        progress: Callable[[str], None] = lambda _: None,
    ) -> KeptHollow:
        """Not from files."""
        raise WrongUsage(*NO_FILES)

    def drop_hollows(self, names: Sequence[str] = ()) -> Sequence[str]:
        """Remove all; the folders that could not be, as a command is using them."""
        from humble_ledger.engines.mysql.hollow import kept  # noqa: PLC0415

        if names:  # those are of files
            return ()
        return [str(each) for each in kept.folders(self.name) if not kept.removed(each)]


class MysqlEngine(_Family):
    """MySQL, from 8.0 on."""


class MariadbEngine(_Family):
    """MariaDB, from 10.6 on."""

    name = MARIADB
    plans = MariadbPlans()
