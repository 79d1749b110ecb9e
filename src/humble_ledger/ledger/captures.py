"""Captures: what was gathered, from where, and how far a file was read."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, fields
from typing import Any

import msgspec
from sqlalchemy import Connection, delete, func, insert, select, update

from humble_ledger.core.entries import (
    CaptureBody,
    CaptureEntry,
    IncidentEntry,
    ReadPosition,
    WaitEntry,
)
from humble_ledger.core.messages import Told
from humble_ledger.core.workload.durations import pack
from humble_ledger.core.workload.gathering import Client, Harvest, Period, RunSeen
from humble_ledger.core.workload.incidents import Incident, IncidentKind
from humble_ledger.core.workload.usage import NO_WORK
from humble_ledger.errors import LockNotGranted
from humble_ledger.ledger import tables as t
from humble_ledger.ledger import usages
from humble_ledger.ledger.bodies import decoded
from humble_ledger.ledger.ids import Kind, format_id
from humble_ledger.ledger.queries import query_numbers
from humble_ledger.ledger.senders import keep_senders
from humble_ledger.ledger.shelf import Shelf, add_event, as_moment, new_id, now, number_of
from humble_ledger.ledger.store import Store
from humble_ledger.ledger.store.sql import as_json, insert_many, reserve_ids
from humble_ledger.ledger.tags import keep_tags

RUNNING, DONE, STOPPED = "running", "done", "stopped"
_AT_ONCE = 1000


@dataclass(slots=True)
class CaptureTally:
    """What a capture tells of itself; see `core.entries.CaptureEntry`."""

    lines: int = 0
    entries: int = 0
    plans: int = 0
    passed_over: Mapping[str, int] = field(default_factory=dict)
    first_unreadable: str = ""
    notes: Sequence[Told] = ()


@dataclass(frozen=True, slots=True)
class PositionMove:
    """How far a log was read when its reading began, and how far it is now.

    ``of_this_log`` tells whether a position is one of this log, whatever its name.
    """

    before: ReadPosition | None
    now: ReadPosition
    of_this_log: Callable[[ReadPosition], bool]


@dataclass(frozen=True, slots=True)
class CountersMove:
    """A look at a target's statistics in place of the one it was held against."""

    target: str
    before: bytes | None
    now: bytes


class Captures(Shelf):
    """Every act of gathering."""

    def begin(self, source: str, place: str, *, zoned: bool = True) -> CaptureWriter:
        """A new capture; it stands in the ledger with the first harvest that is kept.

        ``zoned`` is whether times are known to be UTC.
        """
        return CaptureWriter(self.store, source, place, zoned)

    def positions(self) -> list[ReadPosition]:
        """How far each log was read that was ever captured."""
        return [_position(row) for row in self.rows(select(t.positions))]

    def get(self, id_: str) -> CaptureEntry:
        """One capture."""
        row = self.row(Kind.CAPTURE, id_)
        return _capture(row)

    def all(self, source: str = "") -> list[CaptureEntry]:
        """Every capture in order of time, or those of one kind of source."""
        wanted = select(t.captures).order_by(t.captures.c.id)
        if source:
            wanted = wanted.where(t.captures.c.source == source)
        return [_capture(row) for row in self.rows(wanted)]

    def incidents(self, *, query: str = "", capture: str = "") -> list[IncidentEntry]:
        """The incidents of a query or of a capture, the newest first."""
        i = t.incidents.c
        wanted = select(t.incidents).order_by(i.at.desc(), i.id.desc())
        if query:
            wanted = wanted.where(i.query_id == number_of(Kind.QUERY, query))
        if capture:
            wanted = wanted.where(i.capture_id == number_of(Kind.CAPTURE, capture))
        return [
            IncidentEntry(
                format_id(Kind.QUERY, row.query_id) if row.query_id else None,
                format_id(Kind.CAPTURE, row.capture_id),
                Incident(
                    IncidentKind(row.kind), row.at or None, row.session, row.amount, row.detail
                ),
            )
            for row in self.rows(wanted)
        ]

    def waits(self, *, query: str = "", capture: str = "") -> list[WaitEntry]:
        """What a query, or those of a capture, were seen waiting for, the longest first."""
        w = t.waits.c
        wanted = (
            select(
                w.query_id,
                w.kind,
                w.event,
                func.sum(w.samples).label("seen"),
                func.sum(w.total_ms).label("ms"),
            )
            .group_by(w.query_id, w.kind, w.event)
            .order_by(func.sum(w.total_ms).desc())
        )
        if query:
            wanted = wanted.where(w.query_id == number_of(Kind.QUERY, query))
        if capture:
            wanted = wanted.where(w.capture_id == number_of(Kind.CAPTURE, capture))
        return [
            WaitEntry(format_id(Kind.QUERY, row.query_id), row.kind, row.event, row.seen, row.ms)
            for row in self.rows(wanted)
        ]

    def counters(self, target: str) -> bytes | None:
        """The last look at a target's statistics, as it was kept."""
        wanted = (
            select(t.counters.c.body)
            .where(t.counters.c.target == target)
            .order_by(t.counters.c.id.desc())
        )
        found = self.rows(wanted)
        return bytes(found[0].body) if found else None


class CaptureWriter:
    """Writes one capture, harvest by harvest; each is a transaction.

    A capture that is broken off has all that was kept, and the positions that fit to it.
    """

    def __init__(self, store: Store, source: str, place: str, zoned: bool) -> None:
        self._store = store
        self._source, self._place = source, place
        self.zoned = zoned
        self._number: int | None = None
        self._queries: list[int] = []
        self._seen: set[int] = set()
        self._new_queries = 0
        self._clients: dict[Client, int] = {}
        self._wordings: dict[tuple[int, str], int] = {}
        self._kept = 0
        self._first: str | None = None
        self._last: str | None = None
        self._incidents: dict[str, int] = {}

    def keep(
        self,
        harvest: Harvest,
        positions: Sequence[PositionMove] = (),
        tally: CaptureTally | None = None,
        counters: CountersMove | None = None,
    ) -> None:
        """Keep what was gathered, with how far each log was read by now, or the last look.

        Raises:
            LockNotGranted: another capture has read on in the same place meanwhile; nothing of
                this harvest was kept, since it has counted the same runs.
        """
        state = self._state()
        try:
            self._keep(harvest, positions, tally, counters)
        except BaseException:
            self._back_to(state)
            raise

    def _keep(
        self,
        harvest: Harvest,
        positions: Sequence[PositionMove],
        tally: CaptureTally | None,
        counters: CountersMove | None,
    ) -> None:
        with self._store.writing() as c:
            for move in positions:
                _move_position(c, move)
            if counters is not None:
                _require_same_look(c, counters)
            capture = self._capture(c)
            self._add_queries(c, harvest)
            self._add_periods(c, capture, harvest.periods)
            self._add_runs(c, capture, harvest.runs)
            self._add_incidents(c, capture, harvest.incidents)
            keep_senders(c, capture, self._queries, harvest.sent)
            keep_tags(c, capture, self._queries, harvest.tags)
            if counters is not None:
                values = {"target": counters.target, "body": counters.now}
                c.execute(delete(t.counters).where(t.counters.c.target == counters.target))
                c.execute(insert(t.counters).values(capture_id=capture, **values))
            self._describe(c, capture, tally or CaptureTally(), RUNNING)

    def keep_waits(self, waits: Sequence[tuple[int, str, str, int, float]]) -> None:
        """Keep what queries waited for: group, kind, event, samples, milliseconds."""
        with self._store.writing() as c:
            capture = self._capture(c)
            for group, kind, event, samples, ms in waits:
                c.execute(
                    insert(t.waits).values(
                        query_id=self._queries[group],
                        capture_id=capture,
                        kind=kind,
                        event=event,
                        samples=samples,
                        total_ms=ms,
                    )
                )

    def finish(self, tally: CaptureTally, status: str = DONE) -> CaptureEntry:
        """Close the capture with its last figures and its line of history."""
        with self._store.writing() as c:
            capture = self._capture(c)
            self._describe(c, capture, tally, status)
            words = f"captured {self._kept:,} runs of {len(self._seen)} queries from {self._place}"
            words += "" if status == DONE else f", {status} before its end"
            add_event(c, format_id(Kind.CAPTURE, capture), words)
        return Captures(self._store).get(self.id)

    @property
    def id(self) -> str:
        """The capture's id, once something was kept."""
        assert self._number is not None
        return format_id(Kind.CAPTURE, self._number)

    def knows(self, group: int) -> bool:
        """Whether a harvest with this group was kept."""
        return group < len(self._queries)

    def query(self, group: int) -> str:
        """The id of a group's query, once the harvest with it was kept."""
        return format_id(Kind.QUERY, self._queries[group])

    def _state(self) -> tuple[Any, ...]:
        """What one transaction changes here, as it was before."""
        return (
            self._number, len(self._queries), frozenset(self._seen), self._new_queries, self._kept,
            self._first, self._last, dict(self._incidents),
        )  # fmt: skip

    def _back_to(self, state: tuple[Any, ...]) -> None:
        """A transaction was rolled back: what it had made is not there."""
        self._number, queries, seen, self._new_queries, self._kept = state[:5]
        self._first, self._last, self._incidents = state[5:]
        self._seen = set(seen)
        del self._queries[queries:]
        self._clients.clear()
        self._wordings.clear()

    @property
    def begun(self) -> bool:
        """Whether anything was kept."""
        return self._number is not None

    def _capture(self, c: Connection) -> int:
        if self._number is None:
            values = {"at": now(), "source": self._source, "place": self._place, "kept": 0}
            self._number = new_id(c.execute(insert(t.captures).values(**values, body=b"{}")))
        return self._number

    def _add_queries(self, c: Connection, harvest: Harvest) -> None:
        groups = harvest.groups[len(self._queries) :]
        for number, new in query_numbers(c, groups) if groups else ():
            self._queries.append(number)
            self._new_queries += new

    def _add_periods(self, c: Connection, capture: int, periods: Sequence[Period]) -> None:
        rows = []
        sums: dict[int, usages.Summed] = {}
        for each in periods:
            usage = each.usage
            query = self._queries[each.group]
            first, last = self._text(each.first_s), self._text(each.last_s)
            if first and last:
                self._first = min(self._first or first, first)
                self._last = max(self._last or last, last)
            self._seen.add(each.group)
            self._kept += usage.calls
            sums.setdefault(query, usages.Summed()).add_usage(usage, first, last)
            work = None if usage.work == NO_WORK else msgspec.json.encode(usage.work).decode()
            rows.append(
                (
                    query, capture, self._client(c, each.client), first, last, usage.calls,
                    usage.timed, usage.total_ms, usage.squares_ms2, usage.max_ms,
                    pack(usage.durations), work,
                )
            )  # fmt: skip
        insert_many(c, t.periods, _PERIOD_COLUMNS, rows)
        usages.keep(c, self._source, sums)

    def _add_runs(self, c: Connection, capture: int, runs: Sequence[RunSeen]) -> None:
        self._know_wordings(c, runs)
        rows = [
            (
                self._queries[run.group],
                capture,
                self._wordings[self._queries[run.group], run.wording],
                self._client(c, run.client),
                self._text(run.started_s),
                run.duration_ms,
                run.rows,
                as_json(run.literals),
                as_json(run.values),
                run.session,
            )
            for run in runs
        ]
        insert_many(c, t.runs, _RUN_COLUMNS, rows)
        if len(self._wordings) > _MOST_WORDINGS:
            self._wordings.clear()

    def _know_wordings(self, c: Connection, runs: Sequence[RunSeen]) -> None:
        """The number of each wording of these runs, made where there is none."""
        w = t.wordings.c
        wanted = {(self._queries[run.group], run.wording) for run in runs} - self._wordings.keys()
        queries = sorted({query for query, _ in wanted})
        for start in range(0, len(queries), usages.AT_ONCE):
            some = queries[start : start + usages.AT_ONCE]
            for row in c.execute(select(t.wordings).where(w.query_id.in_(some))):
                if (row.query_id, row.text) in wanted:
                    self._wordings[row.query_id, row.text] = row.id
        fresh = sorted(wanted - self._wordings.keys())
        begun = reserve_ids(c, t.wordings, len(fresh))
        insert_many(
            c, t.wordings, ("id", "query_id", "text"),
            ((begun + place, *each) for place, each in enumerate(fresh)),
        )  # fmt: skip
        self._wordings |= {each: begun + place for place, each in enumerate(fresh)}

    def _add_incidents(
        self, c: Connection, capture: int, incidents: Sequence[tuple[int | None, Incident]]
    ) -> None:
        rows = []
        for group, each in incidents:
            self._incidents[each.kind] = self._incidents.get(each.kind, 0) + 1
            rows.append(
                {
                    "at": each.at or "",
                    "query_id": None if group is None else self._queries[group],
                    "capture_id": capture,
                    "kind": each.kind.value,
                    "session": each.session,
                    "amount": each.amount,
                    "detail": each.detail,
                }
            )
        _insert(c, t.incidents, rows)

    def _client(self, c: Connection, client: Client) -> int:
        number = self._clients.get(client)
        if number is None:
            columns = dict(zip(("user", "database", "application"), client, strict=True))
            wanted = select(t.clients.c.id).filter_by(**columns)
            number = c.execute(wanted).scalar()
            if number is None:
                number = new_id(c.execute(insert(t.clients).values(**columns)))
            self._clients[client] = number
        return number

    def _text(self, moment_s: float | None) -> str | None:
        return None if moment_s is None else as_moment(moment_s, self.zoned)

    def _describe(self, c: Connection, capture: int, tally: CaptureTally, status: str) -> None:
        body: dict[str, Any] = {
            "lines": tally.lines,
            "entries": tally.entries,
            "plans": tally.plans,
            "passed_over": dict(tally.passed_over),
            "first_unreadable": tally.first_unreadable,
            "notes": list(tally.notes),
            "incidents": self._incidents,
            "queries": len(self._seen),
            "new_queries": self._new_queries,
            "status": status,
        }
        c.execute(
            update(t.captures)
            .where(t.captures.c.id == capture)
            .values(
                kept=self._kept,
                first_run=self._first,
                last_run=self._last,
                body=msgspec.json.encode(body),
            )
        )


def _capture(row: Any) -> CaptureEntry:
    id_ = format_id(Kind.CAPTURE, row.id)
    body = decoded(row.body, CaptureBody, id_)
    return CaptureEntry(
        id=id_,
        at=row.at,
        source=row.source,
        place=row.place,
        kept=row.kept,
        first_run=row.first_run,
        last_run=row.last_run,
        **{each.name: getattr(body, each.name) for each in fields(body)},
    )


def _insert(c: Connection, table: Any, rows: list[dict[str, Any]]) -> None:
    for start in range(0, len(rows), _AT_ONCE):
        c.execute(insert(table), rows[start : start + _AT_ONCE])


_RUN_COLUMNS = (
    "query_id", "capture_id", "wording_id", "client_id", "started_at", "duration_ms", "rows",
    "literals", "parameters", "session",
)  # fmt: skip


_PERIOD_COLUMNS = (
    "query_id", "capture_id", "client_id", "first_at", "last_at", "calls", "timed", "total_ms",
    "squares_ms2", "max_ms", "durations", "work",
)  # fmt: skip
_MOST_WORDINGS = 200_000  # known at once


def _move_position(c: Connection, move: PositionMove) -> None:
    """Put a position in place of the one the reading began with, if that one still stands.

    Two captures of one log at once would count its runs twice: the one that comes second finds
    the position gone, or one that was not there before.
    """
    p = t.positions.c
    before, now_at = move.before, move.now
    if before is None:
        rows = c.execute(select(t.positions)).all()
        moved = any(move.of_this_log(_position(row)) for row in rows)
    else:
        gone = c.execute(
            delete(t.positions)
            .where(p.head == before.head)
            .where(p.head_bytes == before.head_bytes)
            .where(p.offset == before.offset)
        )
        moved = gone.rowcount == 0
    if moved:
        raise LockNotGranted(
            f"Another capture has read {now_at.path} meanwhile; its runs are counted once, by it.",
            "Capture again to go on from where it stopped.",
        )
    c.execute(
        insert(t.positions).values(
            path=now_at.path,
            head=now_at.head,
            head_bytes=now_at.head_bytes,
            offset=now_at.offset,
            waiting=now_at.waiting or None,
        )
    )


def _position(row: Any) -> ReadPosition:
    return ReadPosition(row.path, row.head, row.head_bytes, row.offset, row.waiting or b"")


def _require_same_look(c: Connection, move: CountersMove) -> None:
    found = c.execute(
        select(t.counters.c.body)
        .where(t.counters.c.target == move.target)
        .order_by(t.counters.c.id.desc())
    ).scalar()
    if (None if found is None else bytes(found)) != move.before:
        raise LockNotGranted(
            "Another capture has looked at this server's statistics meanwhile; what came since the "
            "look before is counted once, by it.",
            "Capture again for what comes from now on.",
        )
