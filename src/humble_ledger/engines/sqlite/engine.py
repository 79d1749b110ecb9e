"""SQLite as an engine; see `engines.contract.Engine`."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from humble_ledger.core.results.suppositions import KeptHollow
from humble_ledger.engines.contract import Limits, LogFormat
from humble_ledger.engines.sqlite import address
from humble_ledger.engines.sqlite.dialect import SQLITE
from humble_ledger.engines.sqlite.plans.format import SqlitePlans
from humble_ledger.engines.sqlite.server import SqliteServer
from humble_ledger.errors import WrongUsage

_LIMITS = Limits()


class SqliteEngine:
    """Databases in files."""

    name = "sqlite"
    plans = SqlitePlans()
    dialect = SQLITE
    logs: Sequence[LogFormat] = ()

    def public_url(self, url: str) -> str:
        """The address by the whole path."""
        return address.public_url(url)

    def not_kept(self, url: str) -> tuple[str, ...]:
        """Parameters that have no meaning here."""
        return address.not_kept(url)

    def connect(self, url: str, limits: Limits = _LIMITS, mark: str = "") -> SqliteServer:
        """The file at an address."""
        return SqliteServer(address.path_of(url), limits, mark)

    def kept_hollows(self) -> Sequence[KeptHollow]:
        """None is ever kept."""
        return ()

    def build_hollow(
        self,
        name: str,
        files: Sequence[Path],
        settings: Sequence[tuple[str, str]],
        progress: Callable[[str], None] = lambda _: None,
    ) -> KeptHollow:
        """A file with a schema and statistics is a target itself."""
        raise WrongUsage(
            "A copy without rows of an SQLite database is a database file itself.",
            "Give the file:  humble --target copy.db suppose …",
        )

    def drop_hollows(self, names: Sequence[str] = ()) -> Sequence[str]:
        """There is nothing to drop."""
        return ()
