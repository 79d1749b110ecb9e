"""Copies of a database file, on which changes are tried; the file itself is never written."""

from __future__ import annotations

import contextlib
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
    if not _cloned(copy, other):
        shutil.copyfile(copy, other)
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


def _copy(path: Path, copy: Path) -> None:
    """By the library's backup, or by sharing blocks under a lock that lets others read."""
    source = apsw.Connection(
        path.absolute().as_uri() + "?mode=ro",
        flags=apsw.SQLITE_OPEN_READONLY | apsw.SQLITE_OPEN_URI,
    )
    try:
        source.set_busy_timeout(BUSY_MS)
        if not os.path.exists(f"{path}-wal"):
            source.execute("BEGIN")
            source.execute("SELECT count(*) FROM sqlite_schema").fetchall()
            cloned = _cloned(path, copy)
            source.execute("ROLLBACK")
            if cloned:
                return
        target = apsw.Connection(str(copy))
        try:
            target.execute("PRAGMA synchronous = OFF")
            with target.backup("main", source, "main") as backup:
                while not backup.done:
                    backup.step(_PAGES)
            target.execute("PRAGMA journal_mode = DELETE").fetchall()
        finally:
            target.close()
    finally:
        source.close()


def _cloned(path: Path, copy: Path) -> bool:
    """Share the file's blocks, where the file system can."""
    try:
        with path.open("rb") as source, copy.open("wb") as target:
            fcntl.ioctl(target.fileno(), _CLONE, source.fileno())
        return True
    except OSError:
        with contextlib.suppress(OSError):
            copy.unlink()
        return False


def _require_room(path: Path, folder: Path) -> None:
    wanted = path.stat().st_size + _SPARE_BYTES
    free = shutil.disk_usage(folder).free
    if free < wanted:
        raise TargetUnreachable(
            f"A copy of {path.name} takes {wanted / 1024**3:,.1f} GiB, and {folder.parent} has "
            f"{free / 1024**3:,.1f} GiB left.",
            "Name a folder with room for it in the environment variable TMPDIR.",
        )
