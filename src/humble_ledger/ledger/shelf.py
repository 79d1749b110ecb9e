"""What all shelves of the ledger share: rows by id, new ids, the line of history."""

from __future__ import annotations

import getpass
import os
import socket
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import lru_cache
from typing import Any

from sqlalchemy import Connection, Row, Select, Table, func, insert, select, update

from humble_ledger.errors import WrongUsage
from humble_ledger.ledger import tables as t
from humble_ledger.ledger.ids import NAMES, Kind, parse_id
from humble_ledger.ledger.store import Store

TABLES: dict[Kind, Table] = {
    Kind.CAPTURE: t.captures,
    Kind.QUERY: t.queries,
    Kind.PLAN: t.plans,
    Kind.SYMPTOM: t.symptoms,
    Kind.REMEDY: t.remedies,
    Kind.TRIAL: t.trials,
    Kind.REPLAY: t.replays,
}


def now() -> str:
    """This moment in UTC, to the millisecond."""
    return datetime.now(UTC).isoformat(timespec="milliseconds")


def as_kept(moment: datetime) -> str:
    """A moment as the ledger keeps it: text in UTC, which sorts as the moments do.

    One without a zone is kept as it stands: nobody knows better.
    """
    if moment.tzinfo is not None:
        moment = moment.astimezone(UTC)
    return moment.isoformat(timespec="milliseconds")


def as_moment(seconds: float, zoned: bool = True) -> str:
    """Seconds since 1970 as the ledger keeps a moment; without its zone when that is unknown."""
    # As `datetime` has it: rounded to the microsecond, and cut to the millisecond.
    minute, micros = divmod(round(seconds * 1e6), 60_000_000)
    second, ms = divmod(micros // 1000, 1000)
    return f"{_minute(minute)}{second:02}.{ms:03}{'+00:00' if zoned else ''}"


@lru_cache(maxsize=256)
def _minute(number: int) -> str:
    """A minute since 1970 as a moment of the ledger begins; runs of a log share most of them."""
    return datetime.fromtimestamp(number * 60, UTC).isoformat(timespec="minutes")[:16] + ":"


def number_of(kind: Kind, id_: str) -> int:
    """The number in an id of this kind.

    Raises:
        WrongUsage: it is not an id of this kind.
    """
    parsed = parse_id(id_)
    if parsed is None or parsed[0] is not kind:
        raise WrongUsage(
            f'"{id_}" is not the id of a {NAMES[kind]}.',
            f"Ids of this kind look like {kind.value}1; see  humble history",
        )
    return parsed[1]


def add_event(connection: Connection, subject: str, words: str) -> None:
    """Write a line of history, in the transaction of the step it tells of."""
    person, machine = whoever()
    values = {"at": now(), "subject": subject, "words": words}
    connection.execute(insert(t.events).values(**values, person=person, machine=machine))


@lru_cache(maxsize=1)
def whoever() -> tuple[str, str]:
    """The person at work and the machine, by the names the system has for them."""
    try:
        person = getpass.getuser()
    except (OSError, KeyError):  # a user without a name
        person = str(os.getuid())
    return person[:80], socket.gethostname()[:120]


def begin_marked(
    connection: Connection, kind: Kind, target: str, uid: str, process: str
) -> tuple[str, str]:
    """A new trial or replay that runs: its id, and the mark its sessions carry on the target."""
    table = TABLES[kind]
    values = {"at": now(), "target": target, "status": "running", "mark": "", "process": process}
    number = new_id(connection.execute(insert(table).values(**values)))
    id_ = f"{kind.value}{number}"
    mark = f"{id_}@{uid}"
    connection.execute(update(table).where(table.c.id == number).values(mark=mark))
    add_event(connection, id_, f"{NAMES[kind]} begun")
    return id_, mark


def new_id(result: Any) -> int:
    """The number that an INSERT was given."""
    return int(result.inserted_primary_key[0])


@dataclass(frozen=True, slots=True)
class Shelf:
    """One part of the ledger, over its store."""

    store: Store

    def row(self, kind: Kind, id_: str) -> Row[Any]:
        """The row of an id.

        Raises:
            WrongUsage: there is none; the message tells the newest there is.
        """
        table, number = TABLES[kind], number_of(kind, id_)
        with self.store.reading() as c:
            row = c.execute(select(table).where(table.c.id == number)).first()
            newest = c.execute(select(func.max(table.c.id))).scalar()
        if row is None:
            name = NAMES[kind]
            there = f"the newest is {kind.value}{newest}" if newest else f"there is no {name} yet"
            raise WrongUsage(
                f"The ledger has no {name} {id_}; {there}.", "See what it has:  humble history"
            )
        return row

    def rows(self, wanted: Select[Any]) -> Sequence[Row[Any]]:
        """All rows of a selection."""
        with self.store.reading() as c:
            return c.execute(wanted).all()
