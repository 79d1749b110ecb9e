"""Queries with their runs summed up, ranked so that the first is the one to work on."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum


class RankBy(StrEnum):
    """What the ranking goes by."""

    TOTAL = "total"
    MEAN = "mean"
    P95 = "p95"
    MAX = "max"
    CALLS = "calls"


@dataclass(frozen=True, slots=True)
class QueryRuns:
    """One query and the durations of its runs, in milliseconds, in any order."""

    id: str
    fingerprint: str
    text: str
    statement: str
    durations_ms: tuple[float, ...]
    parameters: tuple[str | None, ...] = ()
    rows: tuple[int, ...] = ()
    applications: tuple[str, ...] = ()
    tables: tuple[str, ...] = ()
    sources: tuple[str, ...] = ()
    first_seen: datetime | None = None
    last_seen: datetime | None = None


@dataclass(frozen=True, slots=True)
class RankedQuery:
    """A query's place in the workload; ``share`` of all time, ``running_share`` from the top."""

    query: QueryRuns
    calls: int
    total_ms: float
    mean_ms: float
    p95_ms: float
    max_ms: float
    share: float
    running_share: float


def rank(queries: Iterable[QueryRuns], by: RankBy = RankBy.TOTAL) -> list[RankedQuery]:
    """Rank queries, the heaviest first; queries without runs come last."""
    seen = list(queries)
    whole = sum(sum(q.durations_ms) for q in seen) or 1.0
    keys = {
        RankBy.TOTAL: lambda q: sum(q.durations_ms),
        RankBy.MEAN: lambda q: _mean(q.durations_ms),
        RankBy.P95: lambda q: quantile(q.durations_ms, 0.95),
        RankBy.MAX: lambda q: max(q.durations_ms, default=0.0),
        RankBy.CALLS: lambda q: float(len(q.durations_ms)),
    }
    ranked, running = [], 0.0
    for query in sorted(seen, key=keys[by], reverse=True):
        total = sum(query.durations_ms)
        running += total / whole
        ranked.append(
            RankedQuery(
                query=query,
                calls=len(query.durations_ms),
                total_ms=total,
                mean_ms=_mean(query.durations_ms),
                p95_ms=quantile(query.durations_ms, 0.95),
                max_ms=max(query.durations_ms, default=0.0),
                share=total / whole,
                running_share=running,
            )
        )
    return ranked


def quantile(values: Sequence[float], part: float) -> float:
    """The smallest value with at least ``part`` of all values at or below it; 0 of none."""
    if not values:
        return 0.0
    ordered = sorted(values)
    place = max(0, -(-round(part * len(ordered) * 1000) // 1000) - 1)
    return ordered[min(place, len(ordered) - 1)]


def _mean(values: Sequence[float]) -> float:
    return sum(values) / len(values) if values else 0.0
