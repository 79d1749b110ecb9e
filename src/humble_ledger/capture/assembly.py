"""Rows of a log, block after block, to counted runs, incidents and plans.

Here is put together what the log tells in several entries, which may stand far apart: a
statement and its duration (log_statement with log_duration), a plan and the duration of the
same execution. What is still open when a log ends waits for the next reading.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from math import isnan

from humble_ledger.capture.log_rows import (
    AMOUNT,
    HAPPENED,
    KEY,
    KIND,
    LITERALS,
    PLANNED,
    RAN,
    SENT,
    SESSION,
    BlockRows,
    Row,
    RunColumns,
    joined,
)
from humble_ledger.capture.logged_plans import LoggedPlan, logged_plan, values_of
from humble_ledger.core.statements.masking import masked, masked_words
from humble_ledger.core.statements.wording import cut, refill
from humble_ledger.core.workload.gathering import Client, Gathering, RunSeen
from humble_ledger.core.workload.incidents import Incident, IncidentKind
from humble_ledger.core.workload.origins import NOWHERE, Origin, Tagged, tagged
from humble_ledger.core.workload.repetition import SMALL_MS

NO_STATEMENT = "duration without its statement"
PLAN_UNREAD = "plan that cannot be read"
MOST_WAITING = 1000
# How many rows before a plan the execution it belongs to may stand.
LOOK_BACK = 200
PAIRED = -1  # the kind of a row that has its plan


@dataclass(frozen=True, slots=True)
class Waiting:
    """A statement that was logged without its duration yet."""

    session: str
    sql: str
    detail: str
    client: Client
    started_s: float | None


@dataclass(frozen=True, slots=True)
class PlanSeen:
    """A plan of the log with the duration of its execution, and its statement's group."""

    group: int
    plan: LoggedPlan
    duration_ms: float


@dataclass(slots=True)
class Tally:
    """What was read: lines, entries, and what was passed over and why."""

    lines: int = 0
    entries: int = 0
    passed_over: dict[str, int] = field(default_factory=dict)
    first_unreadable: str = ""

    def pass_over(self, reason: str, count: int = 1) -> None:
        """Count something that was not kept."""
        self.passed_over[reason] = self.passed_over.get(reason, 0) + count

    def add(self, other: Tally) -> None:
        """Count what was read elsewhere."""
        self.lines += other.lines
        self.entries += other.entries
        for reason, count in other.passed_over.items():
            self.pass_over(reason, count)
        if other.first_unreadable:
            self.unreadable_at(other.first_unreadable)

    def unreadable_at(self, place: str) -> None:
        """Remember the first place where something could not be read."""
        self.first_unreadable = self.first_unreadable or place


class Assembler:
    """Takes the blocks of logs in order and feeds a `Gathering`.

    With ``mask`` no literal and no value goes on; ``on_plan`` is given each plan with its
    duration.
    """

    def __init__(
        self, gathering: Gathering, tally: Tally, on_plan: Callable[[PlanSeen], None], mask: bool
    ) -> None:
        self._gathering = gathering
        self._tally = tally
        self._on_plan = on_plan
        self._mask = mask
        self._name, self._start, self._lines_before = "", 0, 0
        self._waiting: dict[str, Waiting] = {}
        self._plans: dict[str, tuple[LoggedPlan, Client, float | None, float]] = {}

    def begin(self, name: str, start: int = 0) -> None:
        """Begin a log, read from the byte ``start`` on; its name tells places in it."""
        self._name, self._start = name, start
        self._lines_before = self._tally.lines

    def take(self, block: BlockRows) -> None:
        """Take a block of the log begun."""
        self._count_lines(block)
        groups = self._groups_of(block)
        tags = [tagged(wording) for wording, _ in block.keys]
        if block.told:
            self._take_told(block, groups, tags)
            return
        any_tags = any(tags)
        if block.columns is not None:
            if not self._plans and not any_tags:
                self._take_columns(block.columns, block, groups)
            else:  # a plan waits for the run it belongs to, or each tells where it came from
                block.rows = [*block.columns.rows(), *block.rows]
        clients = block.clients
        count, watch = self._gathering.count, self._gathering.repetition.saw
        for place, row in enumerate(block.rows):
            kind, end, session, client, ms, key, literals, detail = row
            if kind == PLANNED:
                self._planned(place, block, groups)
                continue
            if kind != RAN or session in self._plans:
                self._take_other(row, block, groups)
                continue
            group = groups[key]
            if count(group, clients[client], end, ms):
                self._keep(group, block.keys[key][0], row, clients[client])
            watched = session and end is not None and ms < SMALL_MS * 10
            if watched:
                watch(group, session, end, ms, hash((joined(literals), detail)))
            if any_tags:
                self._came_from(group, session if watched else "", ms, tags[key])

    def _count_lines(self, block: BlockRows) -> None:
        tally = self._tally
        if block.first_unreadable is not None:
            line = tally.lines - self._lines_before + block.first_unreadable + 1
            counted = f" counted from byte {self._start:,}" if self._start else ""
            tally.unreadable_at(f"{self._name}, line {line:,}{counted}")
        tally.lines += block.lines
        tally.entries += block.entries
        for reason, times in block.passed_over.items():
            tally.pass_over(reason, times)

    def _groups_of(self, block: BlockRows) -> list[int]:
        """The group of each of a block's statements."""
        known = self._gathering.groups
        if block.prints:
            return [
                known.found(wording, *found)
                for (wording, _), found in zip(block.keys, block.prints, strict=True)
            ]
        return [known.of(*key) for key in block.keys]

    def _take_told(self, block: BlockRows, groups: Sequence[int], tags: Sequence[Tagged]) -> None:
        """Count the runs that an application recorded, each with what it tells beside."""
        origins = [Origin(*each) for each in block.origins]
        gathering = self._gathering
        for row, (place, rows, values, known) in zip(block.rows, block.told, strict=True):
            _, end, session, client, ms, key, literals, _ = row
            group, who = groups[key], block.clients[client]
            if gathering.count(group, who, end, ms, rows):
                self._keep(group, block.keys[key][0], row, who, rows, values)
            origin = origins[place] if place >= 0 else tags[key].origin
            request = known or tags[key].request
            # A connection goes from one request to the next: a loop is within one of them.
            sender = request or session
            if sender and end is not None and ms < SMALL_MS * 10:
                hashed = hash((joined(literals), tuple(values)))
                gathering.repetition.saw(group, sender, end, ms, hashed)
                gathering.repetition.came_from(group, sender, NOWHERE, in_request=bool(request))
                self._came_from(group, sender, ms, Tagged(origin, request, tags[key].tags))
            else:
                self._came_from(group, "", ms, Tagged(origin, request, tags[key].tags))

    def _came_from(self, group: int, sender: str, ms: float, tag: Tagged) -> None:
        """Count where the run came from that was counted last; ``sender`` when it was watched."""
        origin, request = tag.origin, tag.request
        if self._mask:  # a route may be a path, with values in it, and so may any tag
            origin = Origin(origin.code, origin.function)
        elif tag.tags:
            self._gathering.tags.saw(group, tag.tags, ms)
        if origin:
            self._gathering.origins.saw(group, origin, ms, request)
            if sender:
                in_request = bool(request) and sender == request
                self._gathering.repetition.came_from(group, sender, origin, in_request=in_request)

    def _take_columns(self, columns: RunColumns, block: BlockRows, groups: Sequence[int]) -> None:
        """Count a block's runs all at once; look at those one by one that are worth it."""
        import numpy as np  # noqa: PLC0415 - only large logs need it

        from humble_ledger.core.workload.counting import Runs  # noqa: PLC0415

        durations = np.frombuffer(columns.durations, np.float64)
        # In the order of the log: where each run stands in the columns.
        at = np.arange(len(durations))
        if columns.places:
            at = np.argsort(np.frombuffer(columns.places, np.intc))
        durations = durations[at]
        ends = np.frombuffer(columns.ends, np.float64)[at]
        keys = np.frombuffer(columns.keys, np.intc)[at]
        sessions = np.frombuffer(columns.sessions, np.intc)[at]
        clients = np.frombuffer(columns.clients, np.intc)[at]
        of_runs = np.array(groups, np.int64)[keys]
        runs = Runs(of_runs, clients.astype(np.int64), ends, durations)
        names, details = columns.session_names, columns.details
        for place in self._gathering.count_many(runs, block.clients):
            key, end, run = int(keys[place]), float(ends[place]), int(at[place])
            row: Row = [
                RAN, None if isnan(end) else end, names[sessions[place]], 0,
                float(durations[place]), key, columns.literals_of(run), details.get(run, ""),
            ]  # fmt: skip
            self._keep(groups[key], block.keys[key][0], row, block.clients[clients[place]])
        small = np.flatnonzero((durations < SMALL_MS * 10) & ~np.isnan(ends))
        if "" in names:  # who sent it is not known
            small = small[sessions[small] != names.index("")]
        literals = columns.literals
        values = [hash((literals[run], details.get(run, ""))) for run in at[small].tolist()]
        self._gathering.repetition.saw_many(
            zip(
                of_runs[small].tolist(),
                map(names.__getitem__, sessions[small].tolist()),
                ends[small].tolist(),
                durations[small].tolist(),
                values,
                strict=True,
            )
        )

    def resume(self, waiting: Iterable[Waiting]) -> None:
        """Take up what waited when the log was read last."""
        for each in waiting:
            self._waiting[each.session] = each

    def leave(self) -> Sequence[Waiting]:
        """What still waits for its duration, at the end of a log; plans are not kept waiting."""
        for session in list(self._plans):
            self._count_plan(session)
        left = list(self._waiting.values())[-MOST_WAITING:]
        self._waiting.clear()
        return left

    def waiting(self) -> Sequence[Waiting]:
        """What waits just now."""
        return list(self._waiting.values())[-MOST_WAITING:]

    def _keep(
        self,
        group: int,
        wording: str,
        row: Row,
        client: Client,
        rows: int | None = None,
        values: Sequence[str | None] = (),
    ) -> None:
        _, end, session, _, ms, _, literals, detail = row
        values = values or values_of(detail)
        if self._mask:
            wording, literals, values = self._gathering.groups.all[group].text, (), ()
        started = None if end is None else end - ms / 1000.0
        self._gathering.keep(
            RunSeen(group, wording, literals, values, client, session, started, ms, rows)
        )

    def _take_other(self, row: Row, block: BlockRows, groups: Sequence[int]) -> None:
        kind, end, session, client, ms, key, literals, detail = row
        who = block.clients[client]
        if kind == HAPPENED:
            self._incident(row, groups)
        elif kind == SENT:
            if key >= 0:
                sql = refill(block.keys[key][0], literals)
                self._waiting[session] = Waiting(session, sql, detail, who, end)
            else:
                self._waiting[session] = Waiting(session, "", "", who, end)
        elif kind == RAN:  # the plan of this execution came just before
            plan = self._plans[session][0]
            if plan.statement.sql == refill(block.keys[key][0], literals):
                del self._plans[session]
                row[KIND] = PAIRED
                self._on_plan(PlanSeen(groups[key], plan, ms))
            else:
                self._count_plan(session)
            self._count(groups[key], block.keys[key][0], row, who)
        else:
            self._took(session, end, ms)

    def _planned(self, place: int, block: BlockRows, groups: Sequence[int]) -> None:
        """A plan: of the execution logged just before, else of the one that will follow.

        A client that prepares its statements has the duration first, any other the plan.
        """
        _, end, session, client, ms, _, _, detail = block.rows[place]
        if session in self._plans:
            self._count_plan(session)
        plan = logged_plan(detail)
        if plan is None:
            self._tally.pass_over(PLAN_UNREAD)
            return
        for before in reversed(block.rows[max(0, place - LOOK_BACK) : place]):
            if before[SESSION] != session or before[KIND] not in (RAN, PAIRED):
                continue
            sql = refill(block.keys[before[KEY]][0], before[LITERALS])
            if before[KIND] == RAN and sql == plan.statement.sql and before[AMOUNT] >= ms:
                before[KIND] = PAIRED
                self._on_plan(PlanSeen(groups[before[KEY]], plan, before[AMOUNT]))
                return
            break
        self._plans[session] = (plan, block.clients[client], end, ms)

    def _took(self, session: str, end: float | None, ms: float) -> None:
        """A duration alone: of the statement that waits for it."""
        if session in self._plans:
            self._count_plan(session)
        sent = self._waiting.pop(session, None)
        if sent is None:
            self._tally.pass_over(NO_STATEMENT)
        elif sent.sql:
            self._count_text(sent.sql, sent.detail, session, sent.client, end, ms)

    def _count_plan(self, session: str) -> None:
        """Count the execution that a plan tells of; nothing else in the log does."""
        plan, client, end, ms = self._plans.pop(session)
        statement = plan.statement
        listed = ", ".join(
            f"${n} = " + ("NULL" if value is None else "'" + value.replace("'", "''") + "'")
            for n, value in enumerate(statement.values, 1)
        )
        detail = f"Parameters: {listed}" if listed else ""
        group = self._count_text(statement.sql, detail, session, client, end, ms)
        self._on_plan(PlanSeen(group, plan, ms))

    def _count_text(
        self, sql: str, detail: str, session: str, client: Client, end: float | None, ms: float
    ) -> int:
        wording, literals = cut(sql) or (sql, [])
        group = self._gathering.groups.of(wording, sql)
        self._count(group, wording, [RAN, end, session, 0, ms, 0, literals, detail], client)
        return group

    def _count(self, group: int, wording: str, row: Row, client: Client) -> None:
        _, end, session, _, ms, _, literals, detail = row
        if self._gathering.count(group, client, end, ms):
            self._keep(group, wording, row, client)
        watched = session and end is not None and ms < SMALL_MS * 10
        if watched:
            values = hash((joined(literals), detail))
            self._gathering.repetition.saw(group, session, end or 0.0, ms, values)
        self._came_from(group, session if watched else "", ms, tagged(wording))

    def _incident(self, row: Row, groups: Sequence[int]) -> None:
        _, end, session, _, amount, key, _, (name, words) = row
        moment = None if end is None else datetime.fromtimestamp(end, UTC)
        incident = Incident(
            IncidentKind(name),
            moment.isoformat(timespec="milliseconds") if moment else None,
            session,
            amount,
            masked_words(words) if self._mask else words,
        )
        self._gathering.happened(groups[key] if key >= 0 else None, incident)


def masked_waiting(waiting: Sequence[Waiting]) -> list[Waiting]:
    """The same without literals and values."""
    return [Waiting(w.session, masked(w.sql), "", w.client, w.started_s) for w in waiting]
