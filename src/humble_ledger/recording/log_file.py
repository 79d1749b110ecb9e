"""A file that several processes append lines to, and that stays below a size."""

from __future__ import annotations

import contextlib
import os
import sys
import threading
import time
from collections.abc import Iterator
from itertools import pairwise
from pathlib import Path

if sys.platform != "win32":
    import fcntl

_LOOK_EVERY_S = 1.0


class LogFile:
    """Appends whole lines; when it has ``most_bytes``, it becomes ``.1``, that ``.2``, and so on.

    ``kept`` former files stay. Only the user it belongs to may read it: it has values in it.
    """

    def __init__(self, path: Path, most_bytes: int, kept: int) -> None:
        self._path, self._most_bytes, self._kept = path, most_bytes, kept
        self._lock = threading.Lock()
        self._number = -1
        self._size = 0
        self._looked = 0.0
        if hasattr(os, "register_at_fork"):
            os.register_at_fork(after_in_child=self._after_fork)

    def append(self, line: bytes) -> None:
        """Write a line at the end, in one call: lines of several processes do not mix.

        Raises:
            OSError: it cannot be written.
        """
        with self._lock:
            now = time.monotonic()
            if self._number < 0 or now - self._looked > _LOOK_EVERY_S:
                self._look(now)
            if self._size + len(line) > self._most_bytes:
                self._rotate()
            os.write(self._number, line)
            self._size += len(line)

    def close(self) -> None:
        """Close it; the next line opens it again."""
        with self._lock:
            self._close()

    def _look(self, now: float) -> None:
        """Open it, also again when another process has put a new one in its place."""
        self._looked = now
        if self._number >= 0:
            ours = os.fstat(self._number)
            self._size = ours.st_size
            with contextlib.suppress(FileNotFoundError):
                there = self._path.stat()
                if (there.st_ino, there.st_dev) == (ours.st_ino, ours.st_dev):
                    return
            self._close()
        flags = os.O_WRONLY | os.O_CREAT | os.O_APPEND | getattr(os, "O_CLOEXEC", 0)
        self._number = os.open(self._path, flags, 0o600)
        self._size = os.fstat(self._number).st_size

    def _rotate(self) -> None:
        """Give the full file its next name; another process may have done so by now."""
        with self._locked():
            self._look(time.monotonic())
            if self._size < self._most_bytes // 2:
                return
            numbers = range(self._kept, 0, -1)
            names = [self._path.with_name(f"{self._path.name}.{n}") for n in numbers]
            if not names:
                os.ftruncate(self._number, 0)
            else:
                for older, newer in pairwise(names):
                    with contextlib.suppress(FileNotFoundError):
                        newer.replace(older)
                self._path.replace(names[-1])
            self._close()
            self._look(time.monotonic())

    @contextlib.contextmanager
    def _locked(self) -> Iterator[None]:
        if sys.platform == "win32":  # processes do not wait for one another there
            yield
            return
        lock = self._path.with_name(f"{self._path.name}.lock")
        number = os.open(lock, os.O_WRONLY | os.O_CREAT, 0o600)
        try:
            fcntl.flock(number, fcntl.LOCK_EX)
            yield
        finally:
            os.close(number)

    def _close(self) -> None:
        if self._number >= 0:
            os.close(self._number)
            self._number = -1

    def _after_fork(self) -> None:
        """A lock that another thread held then would never be given back in the child."""
        self._lock = threading.Lock()
