"""Copies of a database file, on which changes are tried; the file itself is never written."""

from __future__ import annotations

import fcntl
import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import apsw

from humble_ledger.engines.sqlite.faults import translated
from humble_ledger.errors import TargetUnreachable

PREFIX = "humble-copy-"
_CLONE = 0x40049409  # FICLONE: the copy shares the file's blocks until one of them is written
_SPARE_BYTES = 64 * 1024**2
BUSY_MS = 5_000
_PAGES = 2_000  # of one step of a backup
_AT_ONCE = 64 * 1024**2


@contextmanager
def copy_of(path: Path, mark: str = "") -> Iterator[Path]:
    """A consistent copy of a database, gone at the end; its folder's name bears a mark.

    Raises:
        TargetUnreachable: there is no room for it.
        LockNotGranted: somebody held the file all the time.
    """
    folder = Path(tempfile.mkdtemp(prefix=PREFIX + (f"{plain(mark)}-" if mark else "")))
    try:
        copy = folder / "copy.db"
        _require_room(path, folder)
        with translated(path):
            _copy(path, copy)
        yield copy
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def second_copy(copy: Path, name: str) -> Path:
    """Another copy of a copy, which nobody has open, beside it."""
    _require_room(copy, copy.parent)
    other = copy.with_name(name)
    _file_copied(copy, other)
    return other


def left_behind(mark: str) -> tuple[str, ...]:
    """Folders of copies that bear this mark."""
    if not mark:
        return ()
    found = Path(tempfile.gettempdir()).glob(f"{PREFIX}{plain(mark)}-*")
    return tuple(sorted(str(each) for each in found))


def plain(mark: str) -> str:
    """A mark as part of a file's name."""
    return "".join(letter if letter.isalnum() else "-" for letter in mark)


def backed_up(source: apsw.Connection, copy: Path) -> None:
    """Copy a database by the library's backup, page by page."""
    target = apsw.Connection(str(copy))
    try:
        with target.backup("main", source, "main") as backup:
            while not backup.done:
                backup.step(_PAGES)
    finally:
        target.close()


def _copy(path: Path, copy: Path) -> None:
    """The file as such, under a lock that lets others read; with a log by the library's backup.

    A file in WAL mode without a log is in nobody's use: opening it the plain way would leave a
    log of ours beside it. It is copied as it is, and anew if somebody has begun to use it.
    """
    log = path.with_name(f"{path.name}-wal")
    if not log.exists() and _in_log_mode(path):
        before = path.stat()
        _file_copied(path, copy)
        after = path.stat()
        same = (before.st_size, before.st_mtime_ns) == (after.st_size, after.st_mtime_ns)
        if same and not log.exists():
            return
    source = apsw.Connection(
        path.absolute().as_uri() + "?mode=ro",
        flags=apsw.SQLITE_OPEN_READONLY | apsw.SQLITE_OPEN_URI,
    )
    try:
        source.set_busy_timeout(BUSY_MS)
        if log.exists():
            copy.unlink(missing_ok=True)
            backed_up(source, copy)
            return
        source.execute("BEGIN")
        source.execute("SELECT count(*) FROM sqlite_schema").fetchall()
        _file_copied(path, copy)
        source.execute("ROLLBACK")
    finally:
        source.close()


def _in_log_mode(path: Path) -> bool:
    """Whether a file's header says that it is written by a log (file format, 1.3.3)."""
    with path.open("rb") as file:
        return file.read(20)[18:20] == b"\x02\x02"


def _file_copied(path: Path, copy: Path) -> None:
    """Share the file's blocks, where the file system can; else copy what is no hole."""
    with path.open("rb") as source, copy.open("wb") as target:
        try:
            fcntl.ioctl(target.fileno(), _CLONE, source.fileno())
        except OSError:
            _parts_copied(source.fileno(), target.fileno())


def _parts_copied(source: int, target: int) -> None:
    size = os.fstat(source).st_size
    os.truncate(target, size)
    place = 0
    while place < size:
        try:
            begin = os.lseek(source, place, os.SEEK_DATA)
        except OSError:
            return  # nothing but a hole behind it
        place = os.lseek(source, begin, os.SEEK_HOLE)
        os.lseek(source, begin, os.SEEK_SET)
        os.lseek(target, begin, os.SEEK_SET)
        left = place - begin
        while left > 0:
            sent = os.sendfile(target, source, None, min(left, _AT_ONCE))
            if sent == 0:
                return
            left -= sent


def _require_room(path: Path, folder: Path) -> None:
    # What is a hole in the file takes no room in the copy either.
    wanted = min(path.stat().st_size, path.stat().st_blocks * 512) + _SPARE_BYTES
    free = shutil.disk_usage(folder).free
    if free < wanted:
        raise TargetUnreachable(
            f"A copy of {path.name} takes {wanted / 1024**3:,.1f} GiB, and {folder.parent} has "
            f"{free / 1024**3:,.1f} GiB left.",
            "Name a folder with room for it in the environment variable TMPDIR.",
        )
