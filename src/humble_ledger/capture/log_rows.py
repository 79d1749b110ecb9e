"""What a block of a log says, as rows: plain lists, quick to make and to send on.

A large log is read by several processes. Each turns one block of bytes into a `BlockRows`;
what follows across blocks (a duration logged apart from its statement, a plan before the
duration it belongs to) is put together afterwards, in `assembly`.

A row is a list of eight: kind, time, session, client, amount, key, literals, detail.

    kind      amount             key, literals            detail
    RAN       duration in ms     the statement            its DETAIL (parameter values)
    SENT      –                  the statement            its DETAIL
    TOOK      duration in ms     –                        –
    PLANNED   duration in ms     –                        the plan as logged
    HAPPENED  an incident's      the statement it hit,    (name, words)
              bytes or ms        or -1

Times are seconds since 1970, None when the line has none that can be read. Keys are places
in `BlockRows.keys`, clients places in `BlockRows.clients`.
"""

from __future__ import annotations

import calendar
import re
from array import array
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from itertools import repeat
from math import isnan
from typing import Any

from humble_ledger.capture.executions import PREPARED, executed
from humble_ledger.capture.line_shapes import NOWHERE, Shape
from humble_ledger.core.statements.kinds import LONGEST_STATEMENT, StatementKind, kind_of
from humble_ledger.core.statements.wording import BETWEEN, HOLE, cut, cut_many, is_plain, refill

RAN, SENT, TOOK, PLANNED, HAPPENED = range(5)
KIND, TIME, SESSION, CLIENT, AMOUNT, KEY, LITERALS, DETAIL = range(8)
Row = list[Any]
Told = tuple[int, int | None, Sequence[str | None], str]

OWN_APPLICATION = "humble-ledger"
UNREADABLE = "unreadable line"
NO_PLAN = "statement without a plan"
NO_DURATION = "duration that cannot be one"
_TOLD = 200
OWN = "our own statement"
TOO_LONG = "statement of more than 1 MiB"
_NOT_KEPT = -1
_UTC = frozenset(("UTC", "GMT", "Z", ""))
_OFFSET = re.compile(r"([+-])(\d\d):?(\d\d)?")
_WITH_MS = len("05.250")
_DAY_S = 86_400.0
_MOST_KNOWN = 20_000


@dataclass(slots=True)
class RunColumns:
    """Rows of the kind RAN, column by column; see above for the meaning.

    ``ends`` (seconds since 1970, NaN unknown) and ``durations`` (ms) are the bytes of doubles,
    ``keys``, ``clients`` and ``sessions`` (places in ``session_names``) those of C ints.
    ``literals`` are one text for each run; ``details`` only of runs that have one. ``places``
    (C ints) tell the order of the runs in the log, b"" when they stand in it.
    """

    ends: bytes
    durations: bytes
    keys: bytes
    clients: bytes
    sessions: bytes
    session_names: list[str]
    literals: list[str]
    details: dict[int, str]
    places: bytes = b""

    def literals_of(self, place: int) -> list[str]:
        """The literals of one run."""
        return self.literals[place].split(BETWEEN) if self.literals[place] else []

    def rows(self) -> Iterator[Row]:
        """The same as rows."""
        ends, durations, keys, clients, sessions = (
            array(c, b) for c, b in zip("ddiii", self._numbers(), strict=True)
        )
        places = array("i", self.places)
        for run in sorted(range(len(ends)), key=places.__getitem__ if places else None):
            moment = None if isnan(ends[run]) else ends[run]
            name = self.session_names[sessions[run]]
            detail = self.details.get(run, "")
            yield [
                RAN, moment, name, clients[run], durations[run], keys[run],
                self.literals_of(run), detail,
            ]  # fmt: skip

    def _numbers(self) -> tuple[bytes, ...]:
        return self.ends, self.durations, self.keys, self.clients, self.sessions


@dataclass(slots=True)
class BlockRows:
    """The rows of a block, and what its keys and clients stand for.

    ``keys`` are (wording, an example of it), ``clients`` (user, database, application).
    ``passed_over`` counts what was not kept, by reason; ``zoned`` tells whether the times are
    known to be UTC. ``columns`` are rows that ran, once `columns` has taken them out.
    """

    rows: list[Row] = field(default_factory=list)
    keys: list[tuple[str, str]] = field(default_factory=list)
    clients: list[tuple[str, str, str]] = field(default_factory=list)
    lines: int = 0
    entries: int = 0
    passed_over: dict[str, int] = field(default_factory=dict)
    first_unreadable: int | None = None
    zoned: bool = True
    # Text and fingerprint of each key, when they were found where the block was read.
    prints: list[tuple[str, str]] = field(default_factory=list)
    too_long: str = ""  # how the first statement begins that was too long to keep
    # Of an application's own record, for each row: the place of its origin, the rows it gave, its
    # values, and the request. Origins are (code, function, route).
    told: list[Told] = field(default_factory=list)
    origins: list[tuple[str, str, str]] = field(default_factory=list)
    columns: RunColumns | None = None

    def too_long_in(self, text: str) -> None:
        """Tell where in the block's text the first statement stands that was too long."""
        if self.too_long and self.first_unreadable is None:
            place = text.find(self.too_long.partition("\n")[0])
            self.first_unreadable = text.count("\n", 0, place) if place >= 0 else None

    def pass_over(self, reason: str, count: int = 1) -> None:
        """Count something that is not kept."""
        self.passed_over[reason] = self.passed_over.get(reason, 0) + count

    def unreadable(self, line: int, count: int = 1) -> None:
        """Count lines that belong to no entry; ``line`` counts from the block's start, from 0."""
        self.pass_over(UNREADABLE, count)
        if self.first_unreadable is None:
            self.first_unreadable = line


@dataclass(frozen=True, slots=True)
class AlikeRuns:
    """Runs told by lines of one shape, column by column.

    ``lines`` are the places of the lines, ``literals`` a list for each literal of the
    statement; ``details`` is None when they have none.
    """

    lines: list[int]
    times: list[float | None]
    sessions: list[str]
    clients: list[int]
    durations: list[float]
    key: int
    literals: list[list[str]]
    details: list[str] | None

    def rows(self) -> Iterator[Row]:
        """The same as rows."""
        literals = zip(*self.literals, strict=True) if self.literals else repeat(())
        columns = (self.times, self.sessions, self.clients, self.durations)
        details = self.details or repeat("")
        for time, session, client, ms, found, detail in zip(
            *columns, literals, details, strict=False
        ):
            yield [RAN, time, session, client, ms, self.key, list(found), detail]


def in_order(alike: Sequence[AlikeRuns], count: int) -> list[Row | None]:
    """The rows of runs at the places of their lines; None for those of ``count`` without one."""
    rows: list[Row | None] = [None] * count
    for each in alike:
        for place, row in zip(each.lines, each.rows(), strict=True):
            rows[place] = row
    return rows


class BlockWriter:
    """Collects the rows of one block; knows each statement, client and minute once.

    The statements that ran are cut all together, by `finish`: their rows have their text in
    place of their literals until then.
    """

    def __init__(self) -> None:
        self.block = BlockRows()
        self._ran: list[Row] = []
        # Of the wordings that are plain: the place of the statement, and its literals' number.
        self._plain: dict[str, tuple[int, int]] = {}
        self._keys: dict[str, int] = {}
        self._clients: dict[tuple[str, str, str], int] = {}
        self._minutes: dict[str, float | None] = {}
        # Minute, zone and beginning (seconds since 1970) of the last time with milliseconds.
        self._now = ("", "", 0.0)

    def client(self, who: tuple[str, str, str]) -> int:
        """The place of a client (user, database, application); -1 for ourselves."""
        found = self._clients.get(who)
        if found is None:
            if who[2].startswith(OWN_APPLICATION):
                found = _NOT_KEPT
            else:
                found = len(self.block.clients)
                self.block.clients.append(who)
            self._clients[who] = found
        return found

    def run(
        self, sql: str, stamp: str, session: str, client: int, ms: float, detail: str = ""
    ) -> Row:
        """The row of a statement that ran, and is none of ours; `finish` drops what has no plan."""
        if detail.startswith(PREPARED):
            sql, detail = executed(sql, detail)
        row = [RAN, self.time(stamp), session, client, ms, -1, sql, detail]
        self._ran.append(row)
        return row

    def known_runs(
        self, lines: Sequence[str], shapes: Sequence[Shape | None]
    ) -> tuple[list[AlikeRuns], list[int]]:
        """The runs of lines whose shape tells of one, and the places of all other lines.

        Lines of one shape are taken apart together, part by part: line by line takes four
        times as long. None is our own: shapes are learned from runs that are kept, and the name
        we go by has no digits.
        """
        alike: dict[int, tuple[Shape, list[int]]] = {}
        others: list[int] = []
        for place, shape in enumerate(shapes):
            if shape is None or shape.wording is None:
                others.append(place)
            elif (found := alike.get(id(shape))) is None:
                alike[id(shape)] = (shape, [place])
            else:
                found[1].append(place)
        self.block.entries += len(lines) - len(others)
        return [self._known_runs(lines, places, shape) for shape, places in alike.values()], others

    def _known_runs(self, all_lines: Sequence[str], at: list[int], shape: Shape) -> AlikeRuns:
        session, detail, stamp, who, parts, duration, wording, places = shape
        assert wording is not None
        lines = [all_lines[place] for place in at]
        if who is not None:
            clients = [self.client(who)] * len(lines)
        else:
            user, database, application = parts
            clients = [self.client((ln[user], ln[database], ln[application])) for ln in lines]
        literals = [[line[place] for line in lines] for place in places]
        key = self._keys.get(wording)
        if key is None:
            key = self._new_key(wording, refill(wording, [each[0] for each in literals]))
        return AlikeRuns(
            at,
            self._times([line[stamp] for line in lines]),
            [line[session] for line in lines],
            clients,
            [float(line[duration]) for line in lines],
            key,
            literals,
            None if detail == NOWHERE else [line[detail] for line in lines],
        )

    def _times(self, stamps: list[str]) -> list[float | None]:
        """`time` of each; most are milliseconds of one minute."""
        if self.time(stamps[0]) is None:
            return [self.time(s) for s in stamps]
        minute, zone, begun = self._now
        if {s[:17] for s in stamps} == {minute} and {s[23:] for s in stamps} == {zone}:
            return [begun + float(s[17:23]) for s in stamps]
        return [self.time(s) for s in stamps]

    def finish(self) -> BlockRows:
        """The block, its statements cut into wording and literals."""
        ran, self._ran = self._ran, []
        if not ran:
            return self.block
        texts = [row[LITERALS].strip() for row in ran]
        longest = max(map(len, texts))
        wordings, literals = cut_many(texts) if longest <= LONGEST_STATEMENT else ([], [])
        if len(wordings) != len(texts):
            for row, text in zip(ran, texts, strict=True):
                row[KEY], row[LITERALS] = self.statement(text)
        else:
            self._fill(ran, texts, wordings, literals)
        if any(row[KEY] < 0 for row in ran):
            self.block.rows = [r for r in self.block.rows if r[KIND] != RAN or r[KEY] >= 0]
        return self.block

    def _fill(
        self, ran: list[Row], texts: list[str], wordings: list[str], literals: list[str]
    ) -> None:
        """Key and literals of each run, of statements that were cut together."""
        plain, place = self._plain, 0
        for row, text, wording in zip(ran, texts, wordings, strict=True):
            known = plain.get(wording)
            if known is None:
                holes = wording.count(HOLE)
                row[KEY], row[LITERALS] = self.statement(text)
                if is_plain(wording) and len(plain) < _MOST_KNOWN:
                    plain[wording] = (row[KEY], holes)
            else:
                row[KEY], holes = known
                row[LITERALS] = literals[place : place + holes]
                if row[KEY] < 0:
                    self.block.pass_over(NO_PLAN)
            place += holes

    def statement(self, sql: str) -> tuple[int, list[str]]:
        """The place of a statement's wording, and its literals; -1 when it is not kept."""
        if len(sql) > LONGEST_STATEMENT:
            self.block.pass_over(TOO_LONG)
            if not self.block.too_long:
                self.block.too_long = sql[:_TOLD]
            return _NOT_KEPT, []
        sql = sql.strip()
        wording, literals = cut(sql) or (sql, [])
        key = self._keys.get(wording)
        if key is None:
            key = self._new_key(wording, sql)
        if key == _NOT_KEPT:
            self.block.pass_over(NO_PLAN)
        return key, literals

    def time(self, stamp: str) -> float | None:
        """A moment like "2026-03-01 10:00:00.500 UTC", or seconds since 1970, as the latter.

        A zone's short name does not tell its offset: such times are taken as they stand, and
        the block is marked as not zoned.
        """
        # With milliseconds all places are fixed, and most are of the minute of the one before.
        if stamp[:17] == self._now[0] and stamp[23:] == self._now[1]:
            second = _seconds(stamp[17:23])
            return None if second is None else self._now[2] + second
        minute, rest = stamp[:17], stamp[17:]
        seconds, _, zone = rest.partition(" ")
        key = f"{minute} {zone}"
        begun = self._minutes.get(key)
        if begun is None:
            if minute[4:5] != "-":
                return _epoch(stamp)
            begun = self._minutes[key] = self._minute(minute, zone)
        second = _seconds(seconds)
        found = None if begun is None or second is None else begun + second
        if begun is not None and len(seconds) == _WITH_MS and seconds[2] == ".":
            self._now = (minute, f" {zone}", begun)
        return found

    def _new_key(self, wording: str, sql: str) -> int:
        if kind_of(sql) is StatementKind.NO_PLAN:
            key = _NOT_KEPT
        else:
            key = len(self.block.keys)
            self.block.keys.append((wording, sql))
        if len(self._keys) < _MOST_KNOWN:
            self._keys[wording] = key
        return key

    def _minute(self, minute: str, zone: str) -> float | None:
        try:
            moment = datetime.strptime(minute, "%Y-%m-%d %H:%M:")
        except ValueError:
            return None
        begun = float(calendar.timegm(moment.timetuple()))
        if not 0.0 <= begun < _LAST_MOMENT_S - _DAY_S:
            return None
        offset = _OFFSET.fullmatch(zone)
        if offset is not None:
            minutes = int(offset[2]) * 60 + int(offset[3] or 0)
            return begun - (minutes if offset[1] == "+" else -minutes) * 60.0
        if zone not in _UTC:
            self.block.zoned = False
        return begun


# Some thirty years, in ms: no statement takes longer, and no sum of them overflows.
_LONGEST_MS = 1e12
# The last moment that can be written, in seconds since 1970; and none is told before 1970.
_LAST_MOMENT_S = 253_402_300_799.0


def duration_ms(text: str) -> float | None:
    """A duration as a log tells it; None for what is none, as nan or four hundred digits."""
    try:
        found = float(text)
    except ValueError:
        return None
    return found if 0.0 <= found <= _LONGEST_MS else None


def joined(literals: Iterable[str]) -> str:
    """A run's literals as one text."""
    return BETWEEN.join(literals)


def clean(text: str) -> str:
    """A text of a log without the characters that mean something to us or to no one."""
    if "\x00" in text or HOLE in text:
        return text.replace("\x00", "\ufffd").replace(HOLE, "\ufffd")
    return text


def _seconds(text: str) -> float | None:
    """The seconds of a minute; None for what are none, as nan."""
    try:
        found = float(text)
    except ValueError:
        return None
    return found if 0.0 <= found < 100.0 else None


def _epoch(stamp: str) -> float | None:
    try:
        found = float(stamp) if stamp.replace(".", "", 1).isdigit() else None
    except ValueError:
        return None
    return found if found is not None and found <= _LAST_MOMENT_S else None
