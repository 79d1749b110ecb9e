"""A file that several processes append lines to, and that stays below a size."""

from __future__ import annotations

import atexit
import contextlib
import os
import sys
import threading
import time
from collections import deque
from collections.abc import Callable, Iterator
from itertools import pairwise
from pathlib import Path

if sys.platform != "win32":
    import fcntl

_LOOK_EVERY_S = 1.0
# Lines wait in memory for so long, or until they are so many: writing each by itself would take
# as long as all else. What is killed at once loses those of the last moment.
_WAIT_S = 0.2
_TOGETHER = 64


class LogFile:
    """Appends whole lines; when it has ``most_bytes``, it becomes ``.1``, that ``.2``, and so on.

    ``kept`` former files stay. Only the user it belongs to may read it: it has values in it.
    ``failed`` is called with what goes wrong where nobody is who could be told.
    """

    def __init__(
        self, path: Path, most_bytes: int, kept: int, failed: Callable[[Exception], None]
    ) -> None:
        self._path, self._most_bytes, self._kept = path, most_bytes, kept
        self._failed = failed
        self._waiting: deque[str] = deque()
        self._lock = threading.Lock()
        self._wake = threading.Event()
        self._writer: threading.Thread | None = None
        self._number = -1
        self._size = 0
        self._looked = 0.0
        if hasattr(os, "register_at_fork"):
            os.register_at_fork(after_in_child=self._after_fork)
        atexit.register(self._at_exit)

    def append(self, line: str) -> None:
        """Add a line of ASCII at the end; it is written within a moment.

        Raises:
            OSError: the file cannot be written.
        """
        waiting = self._waiting
        waiting.append(line)
        if len(waiting) >= _TOGETHER:
            self.flush()
        elif not self._wake.is_set():
            if self._writer is None:
                self._begin()
            self._wake.set()

    def flush(self) -> None:
        """Write what waits.

        Raises:
            OSError: the file cannot be written.
        """
        with self._lock:
            lines = []
            while self._waiting:
                lines.append(self._waiting.popleft())
            # In one call: lines of several processes do not mix.
            while lines:
                self._write(lines)

    def _write(self, lines: list[str]) -> None:
        """Write as many of the lines as find room in this file, and take them away."""
        now = time.monotonic()
        if self._number < 0 or now - self._looked > _LOOK_EVERY_S:
            self._look(now)
        if self._size and self._size + len(lines[0]) > self._most_bytes:
            self._rotate()
        room, count = self._most_bytes - self._size, 0
        for line in lines:
            if count and room < len(line):
                break
            room -= len(line)
            count += 1
        data = "".join(lines[:count]).encode("ascii")
        del lines[:count]
        os.write(self._number, data)
        self._size += len(data)

    def _begin(self) -> None:
        """Start what writes the lines that wait, when no more come."""
        with self._lock:
            if self._writer is None:
                self._writer = threading.Thread(
                    target=self._write_on, name="humble-recording", daemon=True
                )
                self._writer.start()

    def _write_on(self) -> None:
        while True:
            self._wake.wait()
            self._wake.clear()
            time.sleep(_WAIT_S)
            try:
                self.flush()
            except Exception as error:
                self._failed(error)

    def _at_exit(self) -> None:
        with contextlib.suppress(Exception):
            self.flush()

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
        """The parent writes what waits there; its locks and its thread are not the child's."""
        self._waiting.clear()
        self._lock = threading.Lock()
        self._wake = threading.Event()
        self._writer = None
