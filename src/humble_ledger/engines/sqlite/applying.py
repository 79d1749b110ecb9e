"""Settled changes in the file itself: the only place where it is written."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import apsw

from humble_ledger.engines.contract import Limits
from humble_ledger.engines.sqlite.copies import BUSY_MS, backed_up
from humble_ledger.engines.sqlite.faults import translated
from humble_ledger.engines.sqlite.guard import Guard
from humble_ledger.engines.sqlite.one_statement import execute
from humble_ledger.engines.sqlite.reading import opened, require_database
from humble_ledger.errors import TargetUnreachable


@dataclass(slots=True)
class SqliteHands:
    """See `engines.contract.AdminSession`; a backup is made before the first statement."""

    path: Path
    connection: apsw.Connection
    backup: Path | None = None

    @property
    def saved_as(self) -> str:
        """The copy beside the file."""
        return str(self.backup) if self.backup is not None else ""

    def do(self, statement: str) -> float:
        """Run one statement in a transaction of its own; milliseconds."""
        self._saved()
        begun = time.perf_counter()
        with translated(self.path), self._transaction():
            execute(self.connection, statement).fetchall()
        return (time.perf_counter() - begun) * 1000

    def together(self, statements: Sequence[str], then: Callable[[], None]) -> None:
        """All of them, or none."""
        self._saved()
        with translated(self.path), self._transaction():
            for statement in statements:
                execute(self.connection, statement).fetchall()
            then()

    def drop_if_invalid(self, schema: str, name: str) -> bool:
        """Nothing unfinished is ever left: an index is built in a transaction."""
        return False

    def close(self) -> None:
        """End it."""
        self.connection.close()

    def _saved(self) -> None:
        if self.backup is None:
            self.backup = saved(self.path)

    @contextmanager
    def _transaction(self) -> Iterator[None]:
        self.connection.execute("BEGIN IMMEDIATE")
        try:
            yield
            self.connection.execute("COMMIT")
        except BaseException:
            if self.connection.in_transaction:
                self.connection.execute("ROLLBACK")
            raise


def saved(path: Path) -> Path:
    """A copy of the file beside it, as it is before it is changed.

    Raises:
        TargetUnreachable: there is no room or no right to write it.
    """
    stamp = datetime.now().strftime("%Y%m%dT%H%M%S")
    copy = path.with_name(f"{path.name}.before-{stamp}")
    number = 1
    while copy.exists():
        number += 1
        copy = path.with_name(f"{path.name}.before-{stamp}-{number}")
    try:
        source = opened(path, Guard(writes=True))
        source.set_busy_timeout(BUSY_MS)
        try:
            backed_up(source, copy)
        finally:
            source.close()
    except apsw.Error as error:
        copy.unlink(missing_ok=True)
        raise TargetUnreachable(
            f"No copy of {path.name} can be written beside it: {error}.",
            "Nothing was changed. Make room, or apply the migration by hand.",
        ) from error
    return copy


@contextmanager
def hands(path: Path, limits: Limits) -> Iterator[SqliteHands]:
    """A connection that may write, and waits for others' locks as long as the limit says."""
    require_database(path)
    with translated(path):
        connection = opened(path, Guard(writes=True), writes=True)
    connection.set_busy_timeout(max(limits.lock_ms, 1_000))
    made = SqliteHands(path, connection)
    try:
        yield made
    finally:
        made.close()
