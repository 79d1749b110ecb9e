"""Where copies lie between commands, and what of one is still like the target the next time.

Filling a copy takes longer than all that is asked of it. It holds sampled rows of the target, so
that its folder is open to its user only, and one of a target in production is never kept.
"""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from humble_ledger import __version__
from humble_ledger.engines.launching import keeping
from humble_ledger.engines.launching.account import Account, choose_account
from humble_ledger.engines.mysql.address import public_url
from humble_ledger.engines.mysql.connection import Connection, Member
from humble_ledger.engines.mysql.hollow.filling import Filled
from humble_ledger.engines.mysql.launcher.cluster import ACCOUNT, RUNNING
from humble_ledger.engines.mysql.plans.format import MARIADB, MYSQL
from humble_ledger.errors import HumbleError

MOST_KEPT = 3  # copies of this family, of some 100 to 500 MB each
MOST_BYTES = 2**30  # of one that stays: room that supposed indexes took is not given back
_ENGINES = (MARIADB, MYSQL)
LONGEST_S = 86_400.0  # how long rows count as those of the target, whatever it says of changes
_MOST_OTHER_ROWS = 0.1
_RECORD = "copy.json"
_LONGEST_PATH = 100  # bytes, of the socket's path


@dataclass(frozen=True, slots=True)
class KeptTable:
    """A table of a copy: how it was made, and with what it was filled (None: it is empty).

    The target's rows were read at ``asked_at``, in seconds by its own clock; it was then believed
    to have ``rows``.
    """

    sql: str
    filled: Filled | None = None
    asked_at: float = 0.0
    rows: float = 0.0


@dataclass(frozen=True, slots=True)
class Record:
    """A copy that is kept: of which target, and what is in it.

    ``started_with`` are the settings that hold from the first day of a data folder, ``made_by`` the
    version of ours whose rules its rows follow.
    """

    target: str
    made_at: str
    version: str
    made_by: str
    started_with: dict[str, str]
    tables: dict[str, KeptTable] = field(default_factory=dict)
    notes: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Place:
    """A locked folder for the copy of one target, and what an earlier command left in it."""

    folder: Path
    record: Record

    def keep(self, tables: Mapping[str, KeptTable], notes: tuple[str, ...]) -> None:
        """Write down what the copy holds now."""
        made = replace(self.record, tables=dict(tables), notes=notes)
        draft = self.folder / f"{_RECORD}.new"
        draft.write_bytes(msgspec.json.encode(made))
        draft.replace(self.folder / _RECORD)


@contextlib.contextmanager
def place_for(
    target: Connection, url: str, version: str, started_with: Mapping[str, str]
) -> Iterator[Place | None]:
    """The folder of this target's copy, for us alone; None when it cannot be had.

    What was not left properly, or was begun with other settings, is thrown away; so is, when the
    server has stopped, what has grown too large.
    """
    with contextlib.ExitStack() as held:
        account = _account(target.member)
        folder = keeping.own_folder(_name(target, version), account)
        if (
            folder is None
            or len(str(folder)) > _LONGEST_PATH
            or not keeping.locked(folder, held, RUNNING)
        ):
            yield None
            return
        now = datetime.now(UTC).isoformat(timespec="seconds")
        fresh = Record(public_url(url), now, version, __version__, dict(started_with))
        record = None if (folder / keeping.OPEN).exists() else _record(folder)
        alike = record is not None and record.made_by == fresh.made_by
        if record is None or not alike or record.started_with != fresh.started_with:
            keeping.empty(folder)
            _make_way(account, folder)
            record = fresh
        (folder / keeping.OPEN).touch()
        place = Place(folder, record)
        place.keep(record.tables, record.notes)  # from now on it is listed, whatever happens
        yield place
        if keeping.size_of(folder) > MOST_BYTES:
            keeping.empty(folder)
        (folder / keeping.OPEN).unlink(missing_ok=True)


def still_like(target: Connection, database: str, table: str, kept: KeptTable, rows: float) -> bool:
    """Whether a table of the target is as it was when its rows were read.

    The server tells when a table was changed last, as long as it runs and has the table open; so
    its number of rows, and the time that went by, count as well.
    """
    found = target.asked(
        "SELECT UNIX_TIMESTAMP(UPDATE_TIME), UNIX_TIMESTAMP() FROM information_schema.TABLES "
        "WHERE TABLE_SCHEMA = %s AND TABLE_NAME = %s",
        database,
        table,
    )
    if not found:
        return False
    changed, now = found[0]
    since = float(now) - kept.asked_at
    running = float(target.rows("SHOW GLOBAL STATUS LIKE 'Uptime'")[0][1])
    untouched = running > since if changed is None else float(changed) < kept.asked_at
    as_many = abs(rows - kept.rows) <= _MOST_OTHER_ROWS * max(rows, kept.rows)
    return untouched and as_many and since < LONGEST_S


def looking_closely(target: Connection) -> None:
    """Have the server look when a table was changed, and not tell what it knew a day ago."""
    with contextlib.suppress(HumbleError):  # MariaDB always looks
        target.do("SET SESSION information_schema_stats_expiry = 0")


def all_kept(engine: str) -> Iterator[tuple[Record, Path]]:
    """Every copy of a target of this engine, with its folder."""
    for folder in folders(engine):
        record = _record(folder)
        if record is not None:
            yield record, folder


def folders(engine: str) -> list[Path]:
    """The folders of this engine's copies."""
    try:
        return keeping.own_folders(f"{engine}-", choose_account(ACCOUNT, engine))
    except HumbleError:
        return []  # no server can be run here


def removed(folder: Path) -> bool:
    """Remove a copy; False when a command is using it."""
    return keeping.removed(folder, RUNNING)


def _make_way(account: Account, but: Path) -> None:
    """Remove the oldest copies, beyond those that are worth the room."""
    others = [f for e in _ENGINES for f in keeping.own_folders(f"{e}-", account)]
    others = sorted((f for f in others if f != but), key=lambda f: f.stat().st_mtime)
    for folder in others[: max(0, len(others) + 1 - MOST_KEPT)]:
        removed(folder)


def _account(member: Member) -> Account:
    return choose_account(ACCOUNT, member.name)


def _name(target: Connection, version: str) -> str:
    """One for each target as one user sees it; another server at the same address is another."""
    seen = target.rows("SELECT @@hostname, @@port, @@datadir, DATABASE(), CURRENT_USER()")[0]
    told = "\n".join((str(target.address.place), *map(str, seen)))
    engine = MARIADB if target.member.mariadb else MYSQL
    return f"{engine}-{version}-{hashlib.sha256(told.encode()).hexdigest()[:12]}"


def _record(folder: Path) -> Record | None:
    try:
        return msgspec.json.decode((folder / _RECORD).read_bytes(), type=Record)
    except (OSError, msgspec.DecodeError):
        return None
