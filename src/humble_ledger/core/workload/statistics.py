"""A server's cumulative statistics of statements: two looks, and what happened between them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime

from humble_ledger.core.messages import Told, message, moment
from humble_ledger.core.workload.usage import Usage, Work


@dataclass(frozen=True, slots=True)
class StatementCounters:
    """What the server counted for one statement since ``since`` (or since the last reset).

    ``key`` tells the statement, its user and its database apart from all others.
    ``deviation_ms`` is the standard deviation; ``work`` sums over all calls.
    """

    key: str
    sql: str
    user: str
    database: str
    calls: int
    total_ms: float
    mean_ms: float
    deviation_ms: float
    max_ms: float
    work: Work
    since: datetime | None = None

    @property
    def squares_ms2(self) -> float:
        """The sum of the squared durations, from calls, mean and deviation."""
        return self.calls * (self.deviation_ms**2 + self.mean_ms**2)


@dataclass(frozen=True, slots=True)
class StatisticsLook:
    """All counters at one moment.

    ``reset_at`` is when the server began to count, None when it does not tell; ``evictions``
    how often it forgot statements to make room, of which ``room`` is the setting.
    """

    taken_at: datetime
    statements: Sequence[StatementCounters]
    reset_at: datetime | None = None
    evictions: int | None = None
    room: str = ""


@dataclass(frozen=True, slots=True)
class StatementUse:
    """What one statement took between two looks."""

    statement: StatementCounters
    usage: Usage
    since: datetime | None


@dataclass(frozen=True, slots=True)
class Difference:
    """What happened between two looks, with what makes it less than the whole truth."""

    uses: Sequence[StatementUse]
    notes: Sequence[Told] = field(default=())


def difference(before: StatisticsLook | None, now: StatisticsLook) -> Difference:
    """What each statement took since the look before; since counting began when there is none.

    A statement whose counters went back was reset or forgotten in between: what it has now
    is all that is known.
    """
    notes: list[Told] = []
    known: Mapping[str, StatementCounters] = {}
    if before is None:
        notes.append(message("first-look", since=moment(now.reset_at)))
    else:
        known = {each.key: each for each in before.statements}
        if now.reset_at and before.reset_at and now.reset_at > before.reset_at:
            at = f"{now.reset_at:%Y-%m-%d %H:%M:%S}"
            notes.append(message("statistics-were-reset", at=at))
            known = {}
    forgotten = _evictions(before, now)
    if forgotten:
        notes.append(message("statements-forgotten", times=forgotten, setting=now.room))
    uses, restarted = [], 0
    for each in now.statements:
        earlier = known.get(each.key)
        if earlier is not None and _began_anew(earlier, each):
            restarted += 1
            earlier = None
        usage = _between(earlier, each)
        if usage.calls > 0:
            begun = each.since or now.reset_at
            if before is not None and (begun is None or begun < before.taken_at):
                begun = before.taken_at
            uses.append(StatementUse(each, usage, begun))
    if restarted:
        notes.append(message("counters-began-anew", statements=restarted))
    return Difference(tuple(uses), tuple(notes))


def _evictions(before: StatisticsLook | None, now: StatisticsLook) -> int:
    if now.evictions is None:
        return 0
    earlier = before.evictions if before is not None else None
    return max(now.evictions - (earlier or 0), 0)


def _began_anew(earlier: StatementCounters, now: StatementCounters) -> bool:
    if earlier.since and now.since and now.since > earlier.since:
        return True
    return now.calls < earlier.calls or now.total_ms < earlier.total_ms - 0.001


def _between(earlier: StatementCounters | None, now: StatementCounters) -> Usage:
    if earlier is None:
        return Usage(now.calls, now.calls, now.total_ms, now.squares_ms2, now.max_ms, {}, now.work)
    calls = now.calls - earlier.calls
    # The slowest run of all time was in this window only when it is a new record.
    slowest = now.max_ms if now.max_ms > earlier.max_ms else None
    return Usage(
        calls,
        calls,
        now.total_ms - earlier.total_ms,
        max(0.0, now.squares_ms2 - earlier.squares_ms2),
        slowest,
        {},
        now.work.minus(earlier.work),
    )
