"""A database in a file, as a server: each method is a call into the module that knows how."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass
from pathlib import Path
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
from humble_ledger.engines.sqlite.applying import hands
from humble_ledger.engines.sqlite.client import SqliteClient
from humble_ledger.engines.sqlite.copies import left_behind
from humble_ledger.engines.sqlite.experiment import experiment
from humble_ledger.engines.sqlite.hollow import hollow_of
from humble_ledger.engines.sqlite.reproducing import reproduction
from humble_ledger.engines.sqlite.session import SqliteSession
from humble_ledger.engines.sqlite.stages import stages
from humble_ledger.engines.sqlite.writing import write_runs
from humble_ledger.errors import RefusedForSafety


@dataclass(frozen=True, slots=True)
class SqliteServer:
    """See `engines.contract.Server`."""

    hollow_holds_rows: ClassVar[bool] = False
    path: Path
    limits: Limits = Limits()  # noqa: RUF009
    mark: str = ""

    def session(self) -> SqliteSession:
        """Open a session that only reads."""
        return SqliteSession(self.path, self.limits)

    def experiment(self, change: Change) -> AbstractContextManager[Experiment]:
        """Make a change on one of two copies."""
        return experiment(self.path, change, self.mark, self.limits)

    def stages(
        self, change: Change, *, online: bool
    ) -> AbstractContextManager[SequentialExperiment]:
        """Make a change and unmake it on one copy."""
        return stages(self.path, change, self.mark, self.limits)

    def write_runs(
        self, table: TableFacts, index_on: Callable[[TableName], str], updated: Sequence[str]
    ) -> WriteRuns:
        """Time writes without and with an index, in a copy."""
        return write_runs(self.path, table, index_on, updated, self.mark, self.limits)

    def admin(self) -> AbstractContextManager[AdminSession]:
        """A connection that writes the file, with a backup beside it."""
        return hands(self.path, self.limits)

    def client(self, *, writes: bool) -> Client:
        """A connection for a replay."""
        if writes:
            raise RefusedForSafety(
                "Statements that write are not replayed: the file itself would be written.",
                "Replay those that read, or try a write with:  humble trial --allow-writes",
            )
        return SqliteClient(self.path, self.limits)

    @contextmanager
    def hollow(
        self, progress: Callable[[str], None] = lambda _: None, *, keep: bool = True
    ) -> Iterator[Hollow]:
        """A copy without rows, in memory: it is made in milliseconds and never kept."""
        session = self.session()
        try:
            with hollow_of(session.ground) as made:
                yield made
        finally:
            session.close()

    def reproduction(self, tables: Sequence[TableName]) -> str:
        """Schema and statistics, as the file has them."""
        return reproduction(self.path, tables)

    def gathered_for_all(self, change: Change) -> Sequence[str]:
        """None: a copy is gone with all of it."""
        return ()

    def leftovers(self, indexes: Sequence[tuple[str, str]]) -> Leftovers:
        """Copies that a broken-off trial left; the file itself has nothing of it."""
        return Leftovers(files=left_behind(self.mark))

    def remove_leftovers(self, left: Leftovers) -> None:
        """Remove the copies."""
        for folder in left.files:
            shutil.rmtree(folder, ignore_errors=True)
