"""Two connections, of which one uses what was built and the other is told to ignore it.

Neither member can build an index that one session alone sees. So it is built online, where every
session may use it while the trial lasts, and the statements of the side before are told to ignore
it. An index that is to be removed is not touched at all: the side after ignores it.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace

from humble_ledger.engines.contract import Change, IndexBuild, Limits
from humble_ledger.engines.mysql.arms import MysqlArm
from humble_ledger.engines.mysql.building import built, dropped, settings_of, tables_with
from humble_ledger.engines.mysql.connection import BUILD_TIMEOUT_MS, Connection, connect
from humble_ledger.errors import HumbleError


@dataclass(slots=True)
class MysqlExperiment:
    """See `engines.contract.Experiment`."""

    before: MysqlArm
    after: MysqlArm
    builds: Sequence[IndexBuild]
    tables: dict[str, str]

    def local_processes(self) -> tuple[int, ...]:
        """Sessions are threads of one process: none that could be told apart."""
        return ()

    @contextmanager
    def lacking(self, name: str) -> Iterator[tuple[MysqlArm, MysqlArm]]:
        """The side after without one of its indexes, beside itself with all of them."""
        gone = (self.tables.get(name, ""), name)
        yield replace(self.after, ignored=(*self.after.ignored, gone)), self.after


@contextmanager
def experiment(
    url: str, change: Change, mark: str, limits: Limits, engine: str
) -> Iterator[MysqlExperiment]:
    """Build indexes online, compare, and drop them however it ends.

    Raises:
        LockNotGranted: a transaction that is open on a table did not end; nothing is left.
        RefusedForSafety: a part of the change cannot be made so.
    """
    settings = settings_of(change)
    arms: list[Connection] = []
    builder = connect(url, limits, mark=mark, read_only=False)
    try:
        arms += [connect(url, limits, mark=mark, read_only=not change.writes) for _ in range(2)]
        before, after = (MysqlArm(each, engine) for each in arms)
        tables = {index.name: index.table for index in change.indexes}
        hidden = [
            (table or _table(builder, name, schema), name)
            for (schema, name), table in _pairs(change)
        ]
        after.ignored = tuple(hidden)
        for sql in settings:
            after.connection.do(sql)
        builds: list[IndexBuild] = []
        try:
            builder.patience(BUILD_TIMEOUT_MS)
            for index in change.indexes:
                builds.append(built(builder, index))
                tables[index.name] = index.table or _table(builder, index.name)
            before.ignored = tuple((tables[i.name], i.name) for i in change.indexes)
            yield MysqlExperiment(before, after, builds, tables)
        finally:
            for each in arms:
                each.close()  # dropping waits for whoever has the table open
            _undo(url, change, mark, limits)
    finally:
        for each in (*arms, builder):
            each.close()


def _undo(url: str, change: Change, mark: str, limits: Limits) -> None:
    if not change.indexes:
        return
    # What cannot be dropped now is in the ledger, and told as left behind.
    with contextlib.suppress(HumbleError):
        hands = connect(url, limits, mark=mark, read_only=False)
        try:
            hands.patience(BUILD_TIMEOUT_MS)
            for index in change.indexes:
                with contextlib.suppress(HumbleError):
                    dropped(hands, index.schema, index.name, index.table)
        finally:
            hands.close()


def _pairs(change: Change) -> Iterator[tuple[tuple[str, str], str]]:
    known = change.hidden_from or ("",) * len(change.hidden)
    yield from zip(change.hidden, known, strict=True)


def _table(connection: Connection, name: str, schema: str = "") -> str:
    found = tables_with(connection, schema, name)
    return found[0] if found else ""
