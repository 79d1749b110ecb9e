"""Folders of ours that stay between commands: open to one user, used by one command at a time.

Their names are easy to guess, and others can write beside them; so a folder counts only while it
is a real one that nobody else may look into. One that a command did not leave properly is marked
as in use, and nothing in it is trusted again.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import shutil
import stat
from collections.abc import Collection
from pathlib import Path

from humble_ledger.engines.launching.account import Account

FOLDER_VARIABLE = "HUMBLE_HOLLOWS"
OPEN, _LOCK = "in-use", "lock"
PREFIX = "humble-hollow"
# A unix socket's path may have 107 bytes, so folders must be short and stand high up.
PARENTS = ("/var/tmp", "/tmp")


def parent() -> Path:
    """The folder in which they stand."""
    given = os.environ.get(FOLDER_VARIABLE)
    return Path(given) if given else next((Path(p) for p in PARENTS if Path(p).is_dir()), Path())


def own_folder(name: str, account: Account, *, make: bool = True) -> Path | None:
    """This user's folder of a name; None when it cannot be made, or is not ours.

    It may belong to the ``account`` that runs our servers, too.
    """
    folder = parent() / f"{PREFIX}-{os.geteuid()}-{name}"
    try:
        with contextlib.suppress(FileExistsError):
            if make:
                folder.mkdir(mode=0o700)
    except OSError:
        return None
    return folder if _is_ours(folder, account) else None


def own_folders(beginning: str, account: Account) -> list[Path]:
    """This user's folders whose names begin so."""
    pattern = f"{PREFIX}-{os.geteuid()}-{beginning}*"
    return sorted(p for p in parent().glob(pattern) if _is_ours(p, account))


def _is_ours(folder: Path, account: Account) -> bool:
    try:
        found = folder.lstat()
    except OSError:
        return False
    owners = {os.geteuid(), account.uid}
    return stat.S_ISDIR(found.st_mode) and found.st_uid in owners and not found.st_mode & 0o077


def locked(folder: Path, held: contextlib.ExitStack, of_server: str) -> bool:
    """Whether nobody else uses a folder, nor may begin to while ``held`` lasts.

    ``of_server`` is the file that its server has while it runs: one of a command that was killed
    may be on its way out.
    """
    try:
        file = held.enter_context((folder / _LOCK).open("a"))
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    return not (folder / of_server).exists()


def removed(folder: Path, of_server: str) -> bool:
    """Remove a folder with all that is in it; False when a command is using it."""
    with contextlib.ExitStack() as held:
        if not locked(folder, held, of_server):
            return False
        shutil.rmtree(folder, ignore_errors=True)
    return True


def empty(folder: Path, but: Collection[str] = ()) -> None:
    """Remove what is in a locked folder, but for these files."""
    for path in folder.iterdir():
        if path.name not in (_LOCK, *but):
            shutil.rmtree(path, ignore_errors=True) if path.is_dir() else path.unlink()


def moved(folder: Path, to: Path) -> None:
    """Let a locked folder have all that is in another one."""
    for path in folder.iterdir():
        if path.name != _LOCK:
            path.rename(to / path.name)


def size_of(folder: Path) -> int:
    """The bytes that a folder really takes on the disk; sparse files take next to nothing."""
    total = 0
    for root, _, names in os.walk(folder):
        for name in names:
            with contextlib.suppress(OSError):
                total += (Path(root) / name).lstat().st_blocks * 512
    return total
