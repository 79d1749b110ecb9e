"""Where hollows are kept between commands: one server's folder for each user and major version.

Making the folder is what takes longest, so that it stays, with the hollows in it that are still
true. It is open to its user only, used by one command at a time, and thrown away when a command
did not leave it properly. `humble hollow drop` removes it.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import re
import shutil
import stat
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

import msgspec

from humble_ledger.engines.launching.account import choose_account
from humble_ledger.engines.postgresql.launcher import Binaries, Cluster
from humble_ledger.engines.postgresql.launcher.cluster import PARENTS

FOLDER_VARIABLE = "HUMBLE_HOLLOWS"
MOST_KEPT = 8  # hollows in one folder, of some 10 MiB each
_RECORDS, OPEN, _LOCK = "hollows.json", "in-use", "lock"


@dataclass(frozen=True, slots=True)
class Record:
    """One hollow that is kept: of which target, from when, and what it was made from.

    ``fingerprint`` and ``contents`` are those of the target's outline.
    """

    database: str
    target: str
    made_at: str
    fingerprint: str
    version: str
    notes: tuple[str, ...] = ()
    contents: dict[str, str] = field(default_factory=dict)


@dataclass(slots=True)
class House:
    """A server with hollows; nothing of it stays when it has no folder of its own.

    Of a ``broken`` one nothing is used again: what is written behind its back may be gone.
    """

    cluster: Cluster
    folder: Path | None = None
    broken: bool = False

    def records(self) -> dict[str, Record]:
        """The hollows that are kept, by database."""
        return _records(self.folder) if self.folder is not None else {}

    def keep(self, record: Record) -> None:
        """Remember a hollow that was made."""
        if self.folder is not None:
            _write(self.folder, {**self.records(), record.database: record})

    def too_many(self) -> list[str]:
        """The databases of the oldest hollows, beyond those that are worth the room."""
        known = sorted(self.records().values(), key=lambda record: record.made_at)
        return [record.database for record in known[: max(0, len(known) - MOST_KEPT)]]

    def forget(self, database: str) -> None:
        """Forget a hollow, before it is made anew."""
        if self.folder is not None:
            known = self.records()
            known.pop(database, None)
            _write(self.folder, known)


@contextlib.contextmanager
def opened(binaries: Binaries, settings: Mapping[str, str], *, keep: bool) -> Iterator[House]:
    """The kept server, started; one for this time alone when it is in use, or not to be kept."""
    folder = _folder(binaries) if keep else None
    with contextlib.ExitStack() as held:
        if folder is None or not locked(folder, held):
            with Cluster(binaries, settings, checksums=False) as cluster:
                yield House(cluster)
            return
        if (folder / OPEN).exists():  # somebody was killed, or the machine went down
            empty(folder)
        (folder / OPEN).touch()
        with Cluster(binaries, settings, checksums=False, kept=folder) as cluster:
            house = House(cluster, folder)
            yield house
        if not house.broken:
            (folder / OPEN).unlink(missing_ok=True)


def kept_houses() -> list[Path]:
    """The folders of this user on this machine that hold copies of targets."""
    return [folder for folder in own_folders("") if not _OF_FILES.search(folder.name)]


def all_kept() -> Iterator[tuple[Record, Path]]:
    """Every copy of a target on this machine, with the folder it lies in."""
    for folder in kept_houses():
        for record in _records(folder).values():
            yield record, folder


def size_of(folder: Path) -> int:
    """The bytes that a folder really takes on the disk; sparse files take next to nothing."""
    total = 0
    for root, _, names in os.walk(folder):
        for name in names:
            with contextlib.suppress(OSError):
                total += (Path(root) / name).lstat().st_blocks * 512
    return total


def removed(folder: Path) -> bool:
    """Remove a folder with all hollows in it; False when a command is using it."""
    with contextlib.ExitStack() as held:
        if not locked(folder, held):
            return False
        shutil.rmtree(folder, ignore_errors=True)
    return True


_PREFIX = "humble-hollow"
_OF_FILES = re.compile(rf"{_PREFIX}-\d+-(?:handed|draft)-")


def _parent() -> Path:
    given = os.environ.get(FOLDER_VARIABLE)
    return Path(given) if given else next((Path(p) for p in PARENTS if Path(p).is_dir()), Path())


def _folder(binaries: Binaries) -> Path | None:
    """The folder for these programs, made when it is not there; None when it is not ours."""
    return own_folder(binaries.version)


def own_folder(name: str, *, make: bool = True) -> Path | None:
    """This user's folder of a name; None when it cannot be made, or is not ours."""
    folder = _parent() / f"{_PREFIX}-{os.geteuid()}-{name}"
    try:
        with contextlib.suppress(FileExistsError):
            if make:
                folder.mkdir(mode=0o700)
    except OSError:
        return None
    return folder if _is_ours(folder) else None


def own_folders(beginning: str) -> list[Path]:
    """This user's folders whose names begin so."""
    pattern = f"{_PREFIX}-{os.geteuid()}-{beginning}*"
    return sorted(p for p in _parent().glob(pattern) if _is_ours(p))


def _is_ours(folder: Path) -> bool:
    """Whether it is a real folder that nobody but us, or the server's user, may look into.

    Its name is easy to guess, and others can write beside it.
    """
    try:
        found = folder.lstat()
    except OSError:
        return False
    owners = {os.geteuid(), choose_account("postgres", "PostgreSQL").uid}
    return stat.S_ISDIR(found.st_mode) and found.st_uid in owners and not found.st_mode & 0o077


def locked(folder: Path, held: contextlib.ExitStack) -> bool:
    """Whether nobody else uses a folder, nor may begin to while ``held`` lasts."""
    try:
        file = held.enter_context((folder / _LOCK).open("a"))
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    # A server of a command that was killed may be on its way out.
    return not (folder / "data" / "postmaster.pid").exists()


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


def _records(folder: Path) -> dict[str, Record]:
    try:
        return msgspec.json.decode((folder / _RECORDS).read_bytes(), type=dict[str, Record])
    except (OSError, msgspec.DecodeError):
        return {}


def _write(folder: Path, records: Mapping[str, Record]) -> None:
    draft = folder / f"{_RECORDS}.new"
    draft.write_bytes(msgspec.json.encode(dict(records)))
    draft.replace(folder / _RECORDS)
