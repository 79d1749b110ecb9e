"""One copy on which a change is made and unmade, for what cannot be had at once."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

from humble_ledger.engines.contract import Change, IndexBuild, Limits
from humble_ledger.engines.sqlite.building import built, dropped
from humble_ledger.engines.sqlite.copies import copy_of, second_copy
from humble_ledger.engines.sqlite.experiment import SqliteArm
from humble_ledger.engines.sqlite.faults import translated


@dataclass(slots=True)
class SqliteStages:
    """See `engines.contract.SequentialExperiment`; unmaking goes back to an untouched copy."""

    arm: SqliteArm
    change: Change
    untouched: Path
    builds: list[IndexBuild] = field(default_factory=list)

    def make(self) -> None:
        """Make the change."""
        with translated(self.arm.path):
            self.builds = [built(self.arm.connection, each) for each in self.change.indexes]
            for _, name in self.change.hidden:
                dropped(self.arm.connection, name)
        for sql in self.change.others:
            self.arm.change(sql)

    def unmake(self) -> None:
        """Take it back."""
        limits = self.arm.limits
        self.arm.close()
        self.arm = SqliteArm.on(self.untouched, limits)


@contextmanager
def stages(path: Path, change: Change, mark: str, limits: Limits) -> Iterator[SqliteStages]:
    """A copy to be changed, and an untouched one to go back to."""
    with copy_of(path, mark) as copy:
        untouched = second_copy(copy, "untouched.db")
        made = SqliteStages(SqliteArm.on(copy, limits), change, untouched)
        try:
            yield made
        finally:
            made.arm.close()
