"""Where hollows are kept between commands: one server's folder for each user and major version.

Making the folder is what takes longest, so that it stays, with the hollows in it that are still
true. It is open to its user only, used by one command at a time, and thrown away when a command
did not leave it properly. `humble hollow drop` removes it.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

import msgspec

from humble_ledger.engines.launching import keeping
from humble_ledger.engines.launching.account import Account, choose_account
from humble_ledger.engines.postgresql.launcher import Binaries, Cluster

MOST_KEPT = 8  # hollows in one folder, of some 10 MiB each
_RECORDS, RUNNING = "hollows.json", "data/postmaster.pid"
_BY_VERSION = re.compile(rf"{keeping.PREFIX}-\d+-\d")


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
    folder = own_folder(binaries.version) if keep else None
    with contextlib.ExitStack() as held:
        if folder is None or not locked(folder, held):
            with Cluster(binaries, settings, checksums=False) as cluster:
                yield House(cluster)
            return
        if (folder / keeping.OPEN).exists():  # somebody was killed, or the machine went down
            keeping.empty(folder)
        (folder / keeping.OPEN).touch()
        with Cluster(binaries, settings, checksums=False, kept=folder) as cluster:
            house = House(cluster, folder)
            yield house
        if not house.broken:
            (folder / keeping.OPEN).unlink(missing_ok=True)


def kept_houses() -> list[Path]:
    """The folders of this user on this machine that hold copies of targets.

    They are named by a version, those of files and of other kinds of server by words.
    """
    return [folder for folder in own_folders("") if _BY_VERSION.search(folder.name)]


def all_kept() -> Iterator[tuple[Record, Path]]:
    """Every copy of a target on this machine, with the folder it lies in."""
    for folder in kept_houses():
        for record in _records(folder).values():
            yield record, folder


def removed(folder: Path) -> bool:
    """Remove a folder with all hollows in it; False when a command is using it."""
    return keeping.removed(folder, RUNNING)


def locked(folder: Path, held: contextlib.ExitStack) -> bool:
    """Whether nobody else uses a folder, nor may begin to while ``held`` lasts."""
    return keeping.locked(folder, held, RUNNING)


def _account() -> Account:
    return choose_account("postgres", "PostgreSQL")


def own_folder(name: str, *, make: bool = True) -> Path | None:
    """This user's folder of a name; None when it cannot be made, or is not ours."""
    return keeping.own_folder(name, _account(), make=make)


def own_folders(beginning: str) -> list[Path]:
    """This user's folders whose names begin so."""
    return keeping.own_folders(beginning, _account())


def _records(folder: Path) -> dict[str, Record]:
    try:
        return msgspec.json.decode((folder / _RECORDS).read_bytes(), type=dict[str, Record])
    except (OSError, msgspec.DecodeError):
        return {}


def _write(folder: Path, records: Mapping[str, Record]) -> None:
    draft = folder / f"{_RECORDS}.new"
    draft.write_bytes(msgspec.json.encode(dict(records)))
    draft.replace(folder / _RECORDS)
