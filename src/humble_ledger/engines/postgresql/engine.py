"""PostgreSQL as an engine: the contract's methods, each a call into the module that knows."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from humble_ledger.core.results.suppositions import KeptHollow
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.launching.keeping import size_of
from humble_ledger.engines.postgresql import connection
from humble_ledger.engines.postgresql.dialect import POSTGRESQL
from humble_ledger.engines.postgresql.hollow import house, named
from humble_ledger.engines.postgresql.logs.formats import LOGS
from humble_ledger.engines.postgresql.plans.format import PostgresPlans
from humble_ledger.engines.postgresql.plans.reader import ENGINE
from humble_ledger.engines.postgresql.server import PostgresServer

_LIMITS = Limits()


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

    def connect(self, url: str, limits: Limits = _LIMITS, mark: str = "") -> PostgresServer:
        """The server at an address."""
        return PostgresServer(url, limits, mark)

    def kept_hollows(self) -> Sequence[KeptHollow]:
        """The copies without rows that lie on this machine."""
        return [self._kept(*each) for each in (*house.all_kept(), *named.kept())]

    def _kept(self, record: house.Record, folder: Path) -> KeptHollow:
        return KeptHollow(
            record.target, record.made_at, self.name, record.version, str(folder),
            size_of(folder), record.notes,
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
