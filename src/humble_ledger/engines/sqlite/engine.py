"""SQLite as an engine; see `engines.contract.Engine`."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
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
from humble_ledger.engines.sqlite import address
from humble_ledger.engines.sqlite.applying import hands
from humble_ledger.engines.sqlite.client import SqliteClient
from humble_ledger.engines.sqlite.copies import left_behind
from humble_ledger.engines.sqlite.dialect import SQLITE
from humble_ledger.engines.sqlite.experiment import experiment
from humble_ledger.engines.sqlite.hollow import hollow_of
from humble_ledger.engines.sqlite.plans.format import SqlitePlans
from humble_ledger.engines.sqlite.reproducing import reproduction
from humble_ledger.engines.sqlite.session import SqliteSession
from humble_ledger.engines.sqlite.stages import stages
from humble_ledger.engines.sqlite.writing import write_runs
from humble_ledger.errors import RefusedForSafety, WrongUsage

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

    def open(self, url: str, limits: Limits = _LIMITS) -> SqliteSession:
        """Open a session that only reads."""
        return SqliteSession(address.path_of(url), limits)

    def experiment(
        self, url: str, change: Change, mark: str, limits: Limits = _LIMITS
    ) -> AbstractContextManager[Experiment]:
        """Make a change on one of two copies."""
        return experiment(address.path_of(url), change, mark, limits)

    def stages(
        self, url: str, change: Change, mark: str, limits: Limits = _LIMITS, *, online: bool
    ) -> AbstractContextManager[SequentialExperiment]:
        """Make a change and unmake it on one copy."""
        return stages(address.path_of(url), change, mark, limits)

    def write_runs(
        self,
        url: str,
        table: TableFacts,
        index_on: Callable[[TableName], str],
        updated: Sequence[str],
        mark: str,
        limits: Limits = _LIMITS,
    ) -> WriteRuns:
        """Time writes without and with an index, in a copy."""
        return write_runs(address.path_of(url), table, index_on, updated, mark, limits)

    def hands(
        self, url: str, limits: Limits = _LIMITS, mark: str = ""
    ) -> AbstractContextManager[AdminSession]:
        """A connection that writes the file, with a backup beside it."""
        return hands(address.path_of(url), limits)

    def client(self, url: str, mark: str, limits: Limits = _LIMITS, *, writes: bool) -> Client:
        """A connection for a replay."""
        if writes:
            raise RefusedForSafety(
                "Statements that write are not replayed: the file itself would be written.",
                "Replay those that read, or try a write with:  humble trial --allow-writes",
            )
        return SqliteClient(address.path_of(url), limits)

    @contextmanager
    def hollow(
        self,
        url: str,
        limits: Limits = _LIMITS,
        progress: Callable[[str], None] = lambda _: None,
        *,
        keep: bool = True,
    ) -> Iterator[Hollow]:
        """A copy without rows, in memory: it is made in milliseconds and never kept."""
        session = self.open(url, limits)
        try:
            with hollow_of(session.ground) as made:
                yield made
        finally:
            session.close()

    def reproduction(self, url: str, tables: Sequence[TableName]) -> str:
        """Schema and statistics, as the file has them."""
        return reproduction(address.path_of(url), tables)

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

    def leftovers(self, url: str, indexes: Sequence[tuple[str, str]], mark: str) -> Leftovers:
        """Copies that a broken-off trial left; the file itself has nothing of it."""
        return Leftovers(files=left_behind(mark))

    def remove_leftovers(self, url: str, left: Leftovers) -> None:
        """Remove the copies."""
        for folder in left.files:
            shutil.rmtree(folder, ignore_errors=True)
