"""What each query took in all, kept summed up: a ranking of a hundred thousand reads a page.

The sums are changed in the transaction that keeps the periods they are made of, so that the two
always agree; `rebuild` makes them anew from these.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import msgspec
from sqlalchemy import Connection, Row, case, delete, func, select

from humble_ledger.core.workload.durations import pack, unpack_into
from humble_ledger.core.workload.ranking import RankBy
from humble_ledger.core.workload.usage import NO_WORK, Usage, Work
from humble_ledger.ledger import tables as t
from humble_ledger.ledger.store.sql import insert_many

AT_ONCE = 500


@dataclass(slots=True)
class Summed:
    """The periods of one query added up."""

    calls: int = 0
    timed: int = 0
    total_ms: float = 0.0
    squares_ms2: float = 0.0
    max_ms: float | None = None
    durations: dict[int, int] | None = None
    sums_only: bool = False
    work: Work = NO_WORK
    first: str | None = None
    last: str | None = None

    def add(self, row: Any) -> None:
        """Add a row of `periods` or of `usages`."""
        self.calls += row.calls
        self.timed += row.timed
        self.total_ms += row.total_ms
        self.squares_ms2 += row.squares_ms2
        if row.max_ms is not None:
            self.max_ms = max(self.max_ms or 0.0, row.max_ms)
        if row.durations:
            self.durations = {} if self.durations is None else self.durations
            unpack_into(row.durations, self.durations)
        if getattr(row, "sums_only", not row.durations):
            self.sums_only = True
        if row.work:
            self.work = self.work.plus(Work(**row.work))
        self.span(row.first_at, row.last_at)

    def add_usage(self, usage: Usage, first: str | None, last: str | None) -> None:
        """Add what a harvest tells of a period."""
        self.calls += usage.calls
        self.timed += usage.timed
        self.total_ms += usage.total_ms
        self.squares_ms2 += usage.squares_ms2
        if usage.max_ms is not None:
            self.max_ms = max(self.max_ms or 0.0, usage.max_ms)
        if usage.durations:
            counts = self.durations = {} if self.durations is None else self.durations
            for bucket, count in usage.durations.items():
                counts[bucket] = counts.get(bucket, 0) + count
        else:
            self.sums_only = True
        if usage.work != NO_WORK:
            self.work = self.work.plus(usage.work)
        self.span(first, last)

    def span(self, first: str | None, last: str | None) -> None:
        """Widen the time it was seen in."""
        if first:
            self.first = min(self.first or first, first)
            self.last = max(self.last or last or first, last or first)

    @property
    def usage(self) -> Usage:
        """As a usage."""
        return Usage(
            self.calls,
            self.timed,
            self.total_ms,
            self.squares_ms2,
            self.max_ms,
            {} if self.sums_only or self.durations is None else self.durations,
            self.work,
        )


def keep(c: Connection, source: str, sums: Mapping[int, Summed]) -> None:
    """Add sums to those that are kept of each query."""
    u = t.usages.c
    numbers = list(sums)
    for start in range(0, len(numbers), AT_ONCE):
        some = numbers[start : start + AT_ONCE]
        known = select(t.usages).where(u.source == source).where(u.query_id.in_(some))
        rows = c.execute(known).all()
        for row in rows:
            sums[row.query_id].add(row)
        if rows:
            gone = delete(t.usages).where(u.source == source)
            c.execute(gone.where(u.query_id.in_([row.query_id for row in rows])))
    insert_many(c, t.usages, _COLUMNS, (_row(n, source, each) for n, each in sums.items()))


def rebuild(c: Connection) -> None:
    """Make all sums anew from the periods."""
    c.execute(delete(t.usages))
    wanted = select(t.periods, t.captures.c.source).join(
        t.captures, t.captures.c.id == t.periods.c.capture_id
    )
    sums: dict[str, dict[int, Summed]] = {}
    for row in c.execute(wanted):
        sums.setdefault(row.source, {}).setdefault(row.query_id, Summed()).add(row)
    for source, found in sums.items():
        insert_many(c, t.usages, _COLUMNS, (_row(n, source, each) for n, each in found.items()))


_COLUMNS = (
    "query_id", "source", "calls", "timed", "total_ms", "squares_ms2", "max_ms", "p95_ms", "rows",
    "pages_read", "durations", "sums_only", "work", "first_at", "last_at",
)  # fmt: skip


def _row(number: int, source: str, found: Summed) -> tuple[Any, ...]:
    usage = found.usage
    work = None if found.work == NO_WORK else msgspec.json.encode(found.work).decode()
    return (
        number, source, found.calls, found.timed, found.total_ms, found.squares_ms2, found.max_ms,
        usage.p95_ms, found.work.rows, found.work.pages_read, pack(found.durations or {}),
        int(found.sums_only), work, found.first, found.last,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Page:
    """The first rows of a ranking: queries by number, in order, with the sums of all.

    ``mostly`` is how many queries take `part` of the time, and the share they take.
    """

    numbers: tuple[int, ...]
    count: int
    total_ms: float
    mostly: tuple[int, float]


_ORDERS: Mapping[RankBy, Any] = {
    RankBy.TOTAL: t.usages.c.total_ms,
    RankBy.MEAN: t.usages.c.total_ms / case((t.usages.c.timed > 1, t.usages.c.timed), else_=1),
    RankBy.P95: t.usages.c.p95_ms,
    RankBy.MAX: t.usages.c.max_ms,
    RankBy.CALLS: t.usages.c.calls,
    RankBy.ROWS: t.usages.c.rows,
    RankBy.READS: t.usages.c.pages_read,
    RankBy.COST: t.queries.c.cost * t.usages.c.calls,
}


def page(c: Connection, source: str, by: RankBy, top: int, part: float) -> Page:
    """The first ``top`` queries of a kind of source, and how many make ``part`` of the time."""
    u = t.usages.c
    wanted = (
        select(u.query_id)
        .join(t.queries, t.queries.c.id == u.query_id)
        .where(u.source == source)
        .order_by(_ORDERS[by].desc().nulls_last(), u.query_id)
        .limit(top)
    )
    numbers = tuple(c.execute(wanted).scalars())
    sums = select(func.count(), func.coalesce(func.sum(u.total_ms), 0.0)).where(u.source == source)
    count, total = c.execute(sums).one()
    return Page(numbers, int(count), float(total), _mostly(c, source, float(total), part))


# What sums alone can rank by.
SUMMED_BY = (RankBy.TOTAL, RankBy.MEAN, RankBy.MAX, RankBy.CALLS)


def page_of(sums: Sequence[Row[Any]], by: RankBy, top: int, part: float) -> Page:
    """The same of sums that were made for the occasion."""
    figures: Mapping[RankBy, Callable[[Any], float]] = {
        RankBy.TOTAL: lambda row: row.total_ms,
        RankBy.MEAN: lambda row: row.total_ms / max(row.timed, 1),
        RankBy.MAX: lambda row: -1.0 if row.max_ms is None else row.max_ms,
        RankBy.CALLS: lambda row: row.calls,
    }
    figure = figures[by]
    seen = [row for row in sums if row.calls]
    first = heapq.nsmallest(top, seen, key=lambda row: (-figure(row), row.query_id))
    total = sum(row.total_ms for row in seen)
    running, few = 0.0, 0
    for row in sorted(seen, key=lambda row: -row.total_ms):
        running, few = running + row.total_ms, few + 1
        if running >= part * total:
            break
    share = running / total if total else 0.0
    return Page(tuple(row.query_id for row in first), len(seen), total, (few, share))


def _mostly(c: Connection, source: str, total: float, part: float) -> tuple[int, float]:
    u = t.usages.c
    running, few = 0.0, 0
    times = select(u.total_ms).where(u.source == source).order_by(u.total_ms.desc())
    for (ms,) in _stepwise(c, times):
        running, few = running + ms, few + 1
        if running >= part * total:
            break
    return few, running / total if total else 0.0


def _stepwise(c: Connection, wanted: Any) -> Iterator[Row[Any]]:
    yield from c.execution_options(yield_per=AT_ONCE).execute(wanted)


def by_time(c: Connection) -> list[int]:
    """The numbers of all queries that were seen running, those that took most time first."""
    u = t.usages.c
    total = func.sum(u.total_ms)
    wanted = (
        select(u.query_id)
        .group_by(u.query_id)
        .having(func.sum(u.calls) > 0)
        .order_by(total.desc(), u.query_id)
    )
    return list(c.execute(wanted).scalars())


def calls(c: Connection) -> dict[int, int]:
    """How often each query was seen, by any source."""
    u = t.usages.c
    wanted = select(u.query_id, func.sum(u.calls)).group_by(u.query_id)
    return {number: int(count) for number, count in c.execute(wanted)}


def whole_ms(c: Connection, source: str) -> float:
    """The time of all queries of a kind of source."""
    u = t.usages.c
    wanted = select(func.coalesce(func.sum(u.total_ms), 0.0)).where(u.source == source)
    return float(c.execute(wanted).scalar() or 0.0)
