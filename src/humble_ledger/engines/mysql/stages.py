"""A change that is made and unmade, one stage after the other; every session sees it meanwhile."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass, field

from humble_ledger.engines.contract import Change, IndexBuild, Limits, NewIndex
from humble_ledger.engines.mysql.arms import MysqlArm
from humble_ledger.engines.mysql.building import built, dropped, settings_of, statistics_of
from humble_ledger.engines.mysql.connection import BUILD_TIMEOUT_MS, Connection, connect
from humble_ledger.engines.mysql.gathering import (
    ColumnStatistics,
    gather,
    let_go,
    require_gatherable,
)
from humble_ledger.errors import HumbleError


@dataclass(slots=True)
class _Stages:
    """See `engines.contract.SequentialExperiment`."""

    arm: MysqlArm
    url: str
    change: Change
    mark: str
    limits: Limits
    builds: list[IndexBuild] = field(default_factory=list)
    made: list[NewIndex] = field(default_factory=list)
    gathered: list[ColumnStatistics] = field(default_factory=list)
    settings: tuple[str, ...] = ()

    def make(self) -> None:
        """Build all its indexes, gather its statistics, and have the arm set what it sets."""
        connection = self._hands()
        try:
            for index in self.change.indexes:
                self.made.append(index)  # first: one broken off may leave something
                self.builds.append(built(connection, index))
            wanted = statistics_of(self.change)
            require_gatherable(connection, wanted)
            for each in wanted:
                self.gathered.append(each)
                gather(connection, each)
        finally:
            connection.close()
        for sql in self.settings:
            self.arm.connection.do(sql)

    def unmake(self) -> None:
        """Take all of it back."""
        for sql in self.settings:
            self.arm.connection.do(f"{sql.partition('=')[0]}= DEFAULT")
        self.remove()

    def remove(self) -> None:
        """Take back what every session sees."""
        connection = self._hands()
        try:
            while self.made:
                dropped(connection, self.made[-1].schema, self.made[-1].name, self.made[-1].table)
                self.made.pop()
            while self.gathered:
                let_go(connection, self.gathered[-1])
                self.gathered.pop()
        finally:
            connection.close()

    def _hands(self) -> Connection:
        connection = connect(self.url, self.limits, mark=self.mark, read_only=False)
        connection.patience(BUILD_TIMEOUT_MS)
        return connection


@contextlib.contextmanager
def stages(url: str, change: Change, mark: str, limits: Limits, engine: str) -> Iterator[_Stages]:
    """One arm; what was made is dropped however it ends.

    Raises:
        RefusedForSafety: a part of the change cannot be made so.
    """
    settings = settings_of(change, lasting=True)
    connection = connect(url, limits, mark=mark, read_only=not change.writes)
    try:
        arm = MysqlArm(connection, engine)
        made = _Stages(arm, url, change, mark, limits, settings=settings)
        try:
            yield made
        finally:
            if made.made or made.gathered:
                connection.close()  # dropping waits for whoever has the table open
                # What cannot be dropped now is in the ledger, and told as left behind.
                with contextlib.suppress(HumbleError):
                    made.remove()
    finally:
        connection.close()


def gathered_for_all(url: str, change: Change, mark: str, limits: Limits) -> tuple[str, ...]:
    """The statistics that a change gathers, as the ledger knows them.

    Raises:
        RefusedForSafety: it has something that could not be undone.
    """
    settings_of(change, lasting=True)
    wanted = statistics_of(change)
    connection = connect(url, limits, mark=mark, read_only=False)
    try:
        require_gatherable(connection, wanted)
    finally:
        connection.close()
    return tuple(name for each in wanted for name in each.names)
