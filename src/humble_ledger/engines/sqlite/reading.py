"""Reading a database file without ever keeping a writer waiting.

A reader of a file in rollback mode holds a lock, and a writer that wants to commit meanwhile is
told "database is locked". So such a file is read without a lock, and afterwards it is looked
whether anybody changed it in between: then what was read is thrown away and read again. In WAL
mode readers hinder nobody, and are opened in the plain way.

What marks a change is in the file's header: the change counter that each commit adds to (file
format, section 1.3.9), beside size and time of the file and the state of its journal.
"""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TypeVar

import apsw

from humble_ledger.engines.sqlite.address import HEADER
from humble_ledger.engines.sqlite.copies import copy_of
from humble_ledger.engines.sqlite.faults import translated
from humble_ledger.engines.sqlite.guard import Guard, harden
from humble_ledger.errors import TargetUnreachable

T = TypeVar("T")
Stamp = tuple[object, ...]
TRIES = 4
PAUSE_S = 0.05
MOST_COPIED_BYTES = 2 * 1024**3  # read under a lock, when somebody writes all the time
STEPS_BETWEEN_LOOKS = 20_000  # of the virtual machine


class Reader:
    """One file, read as it is at a moment; each question gets a consistent answer."""

    def __init__(self, path: Path, statement_ms: int) -> None:
        self.path = path
        self.statement_ms = statement_ms
        self.guard = Guard()
        self._open: apsw.Connection | None = None
        self._stamp: Stamp = ()
        require_database(path)

    def ask(self, question: Callable[[apsw.Connection], T], at_most_ms: int | None = None) -> T:
        """The answer to a question, asked again when the file changed meanwhile.

        Raises:
            HumbleError: the file cannot be read, or the statement is refused or takes too long.
        """
        with translated(self.path):
            for _ in range(TRIES):
                connection = self._connection()
                try:
                    with limited(connection, at_most_ms or self.statement_ms):
                        answer = question(connection)
                except (apsw.CorruptError, apsw.IOError, apsw.NotADBError):
                    if self._unchanged():
                        raise
                else:
                    if self._unchanged():
                        return answer
                self.close()
                time.sleep(PAUSE_S)
            with limited_copy(self.path) as copy:
                connection = opened(copy, Guard(), immutable=True)
                try:
                    with limited(connection, at_most_ms or self.statement_ms):
                        return question(connection)
                finally:
                    connection.close()

    def interrupt(self) -> None:
        """Stop what is being asked; may be called from another thread."""
        if self._open is not None:
            with contextlib.suppress(apsw.ConnectionClosedError):
                self._open.interrupt()

    def close(self) -> None:
        """Let go of the file."""
        if self._open is not None:
            self._open.close()
            self._open = None

    @property
    def locks(self) -> bool:
        """Whether others are seen and see us: the file has a write-ahead log in use."""
        return uses_log(self.path)

    def _connection(self) -> apsw.Connection:
        stamp = stamp_of(self.path)
        if self._open is not None and (self.locks or stamp == self._stamp):
            return self._open
        self.close()
        self._stamp = stamp
        self._open = opened(self.path, self.guard, immutable=not self.locks)
        return self._open

    def _unchanged(self) -> bool:
        """Whether what was read is of one moment."""
        if self.locks:
            return self._stamp[-1] == stamp_of(self.path)[-1]
        return stamp_of(self.path) == self._stamp


def opened(
    path: Path, guard: Guard, *, immutable: bool = False, writes: bool = False
) -> apsw.Connection:
    """A connection; ``immutable`` takes no locks and trusts that nobody writes."""
    address = path.absolute().as_uri()
    kind = apsw.SQLITE_OPEN_READWRITE if writes else apsw.SQLITE_OPEN_READONLY
    connection = apsw.Connection(
        address + ("?immutable=1" if immutable else ""), flags=kind | apsw.SQLITE_OPEN_URI
    )
    harden(connection)
    connection.authorizer = guard
    return connection


@contextmanager
def limited(connection: apsw.Connection, at_most_ms: int) -> Iterator[None]:
    """End what runs longer than this, by `apsw.InterruptError`; 0 for no limit."""
    if at_most_ms <= 0:
        yield
        return
    until = time.monotonic() + at_most_ms / 1000
    connection.set_progress_handler(lambda: time.monotonic() > until, STEPS_BETWEEN_LOOKS)
    try:
        yield
    finally:
        connection.set_progress_handler(None)


@contextmanager
def limited_copy(path: Path) -> Iterator[Path]:
    """A copy to read at leisure, of a file that is written all the time.

    Raises:
        TargetUnreachable: it is too large to keep its writers waiting for so long.
    """
    if path.stat().st_size > MOST_COPIED_BYTES:
        raise TargetUnreachable(
            f"{path.name} changes faster than it can be read, and is too large to be copied.",
            "Try again when less is written, or use WAL mode, in which readers hinder nobody.",
        )
    with copy_of(path) as copy:
        yield copy


def require_database(path: Path) -> None:
    """Make sure that a file is a database that can be read.

    Raises:
        TargetUnreachable: it is not there, is none, or belongs to somebody else.
    """
    if uses_log(path):
        return  # the library looks itself: a look of ours would let go of other readers' locks
    try:
        if not path.exists():
            raise TargetUnreachable(
                f"There is no file {path}.", "Check the path:  humble init path/to/app.db"
            )
        if not path.is_file():
            raise TargetUnreachable(f"{path} is not a file.", "Give the path of a database file.")
        with path.open("rb") as file:
            start = file.read(100)
    except OSError as error:
        raise TargetUnreachable(
            f"{path} cannot be read: {error.strerror}.", "Check your rights to it."
        ) from error
    if not start:
        raise TargetUnreachable(
            f"{path} is empty: there is no table in it.", "Give the file that the application uses."
        )
    if not start.startswith(HEADER):
        raise TargetUnreachable(
            f"{path} is not an SQLite database, or it is encrypted: it does not begin as one.",
            "An encrypted one can be looked at as a decrypted copy.",
        )


def stamp_of(path: Path) -> Stamp:
    """What changes with each commit; its last part is the file itself.

    Closing a file lets go of all locks that this process has on it, whoever took them: so a file
    that is read with locks is not opened here.
    """
    head = b""
    try:
        status = path.stat()
        if not uses_log(path):
            with path.open("rb") as file:
                head = file.read(100)
    except OSError:
        return (None,)
    journal = _size(path.with_name(path.name + "-journal"))
    return (
        status.st_size, status.st_mtime_ns, head[18:20], head[24:28], head[92:100], journal,
        uses_log(path), (status.st_dev, status.st_ino),
    )  # fmt: skip


def uses_log(path: Path) -> bool:
    """Whether a file is in WAL mode and its log has something in it."""
    return _size(path.with_name(path.name + "-wal")) > 0


def _size(path: Path) -> int:
    try:
        return os.stat(path).st_size
    except OSError:
        return 0
