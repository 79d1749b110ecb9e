"""A change that is made and unmade, one stage after the other; every session sees it meanwhile."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass, field

from humble_ledger.engines.contract import Change, IndexBuild, Limits, NewIndex
from humble_ledger.engines.mysql.arms import MysqlArm
from humble_ledger.engines.mysql.building import built, dropped, require_makeable
from humble_ledger.engines.mysql.connection import BUILD_TIMEOUT_MS, Connection, connect
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

    def make(self) -> None:
        """Build all its indexes."""
        connection = self._hands()
        try:
            for index in self.change.indexes:
                self.made.append(index)  # first: one broken off may leave something
                self.builds.append(built(connection, index))
            for sql in self.change.others:
                connection.do(sql)
        finally:
            connection.close()

    def unmake(self) -> None:
        """Drop them again."""
        connection = self._hands()
        try:
            while self.made:
                dropped(connection, self.made[-1].schema, self.made[-1].name, self.made[-1].table)
                self.made.pop()
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
    require_makeable(change)
    connection = connect(url, limits, mark=mark, read_only=not change.writes)
    try:
        arm = MysqlArm(connection, engine)
        made = _Stages(arm, url, change, mark, limits)
        try:
            yield made
        finally:
            if made.made:
                connection.close()  # dropping waits for whoever has the table open
                # What cannot be dropped now is in the ledger, and told as left behind.
                with contextlib.suppress(HumbleError):
                    made.unmake()
    finally:
        connection.close()
