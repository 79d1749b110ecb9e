"""Queries with their runs summed up, ranked so that the first is the one to work on."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from enum import StrEnum

from humble_ledger.core.workload.usage import Usage

# The part of the captured time that the first queries of a ranking are told to take.
MOSTLY = 0.8


class RankBy(StrEnum):
    """What the ranking goes by."""

    TOTAL = "total"
    MEAN = "mean"
    P95 = "p95"
    MAX = "max"
    CALLS = "calls"
    ROWS = "rows"
    READS = "reads"
    COST = "cost"
    GROWTH = "growth"


@dataclass(frozen=True, slots=True)
class QueryRuns:
    """One query and what its runs took, as one kind of source saw them.

    ``statement`` with ``parameters`` is its slowest run as it was sent. ``cost`` is the cost
    the server estimated in the newest plan, None when no plan was read.
    """

    id: str
    fingerprint: str
    text: str
    usage: Usage
    statement: str = ""
    parameters: tuple[str | None, ...] = ()
    applications: tuple[str, ...] = ()
    tables: tuple[str, ...] = ()
    sources: tuple[str, ...] = ()
    first_seen: datetime | None = None
    last_seen: datetime | None = None
    cost: float | None = None

    @property
    def seen(self) -> bool:
        """Whether it was captured at all."""
        return self.usage.calls > 0


@dataclass(frozen=True, slots=True)
class RankedQuery:
    """A query's place in the workload; ``share`` of all time, ``running_share`` from the top.

    ``before`` is what it took in the capture before, when growth was asked for.
    """

    query: QueryRuns
    share: float
    running_share: float
    before: Usage | None = None

    @property
    def usage(self) -> Usage:
        """What its runs took."""
        return self.query.usage

    @property
    def growth_ms(self) -> float | None:
        """How much more time it took than before (ms); None when growth was not asked for."""
        return None if self.before is None else self.usage.total_ms - self.before.total_ms


_NONE: Mapping[str, Usage] = {}


def rank(
    queries: Iterable[QueryRuns],
    by: RankBy = RankBy.TOTAL,
    before: Mapping[str, Usage] = _NONE,
    whole_ms: float | None = None,
) -> list[RankedQuery]:
    """Rank queries, the heaviest first; those of which the figure is unknown come last.

    ``before`` has what each query took in the capture before, for ranking by growth; ``whole_ms``
    is the time of all queries when these are only the first of them.
    """
    seen = list(queries)
    whole = (sum(q.usage.total_ms for q in seen) if whole_ms is None else whole_ms) or 1.0
    figure = _FIGURES[by]
    rows = [
        RankedQuery(
            q, q.usage.total_ms / whole, 0.0, before.get(q.id, _NOTHING) if before else None
        )
        for q in seen
    ]
    rows.sort(key=lambda row: _known_first(figure(row)), reverse=True)
    ranked, running = [], 0.0
    for row in rows:
        running += row.share
        ranked.append(RankedQuery(row.query, row.share, running, row.before))
    return ranked


_NOTHING = Usage()
_FIGURES: Mapping[RankBy, Callable[[RankedQuery], float | None]] = {
    RankBy.TOTAL: lambda row: row.usage.total_ms,
    RankBy.MEAN: lambda row: row.usage.mean_ms,
    RankBy.P95: lambda row: row.usage.p95_ms,
    RankBy.MAX: lambda row: row.usage.max_ms,
    RankBy.CALLS: lambda row: row.usage.calls,
    RankBy.ROWS: lambda row: row.usage.work.rows,
    RankBy.READS: lambda row: row.usage.work.pages_read,
    # What the server thinks all its runs cost together.
    RankBy.COST: lambda row: None if row.query.cost is None else row.query.cost * row.usage.calls,
    RankBy.GROWTH: lambda row: row.growth_ms,
}


def _known_first(figure: float | None) -> tuple[bool, float]:
    return (figure is not None, figure or 0.0)


@dataclass(frozen=True, slots=True)
class Ranking:
    """A ranking and what it rests on: the kind of source, and the others there are.

    ``chosen`` tells that only some of the captured runs were asked for; ``compared`` names
    the two captures of a ranking by growth. ``rows`` may be the first of ``count`` queries, which
    took ``total_ms``; ``mostly`` is how many take most of it, and the share these take.
    ``sent_by`` has the place in the application of those queries where it is known.
    """

    rows: tuple[RankedQuery, ...]
    by: RankBy = RankBy.TOTAL
    source: str = ""
    others: tuple[str, ...] = ()
    chosen: bool = False
    compared: tuple[str, ...] = field(default=())
    count: int = 0
    total_ms: float = 0.0
    mostly: tuple[int, float] = (0, 0.0)
    sent_by: Mapping[str, str] = field(default_factory=dict)

    @classmethod
    def of(
        cls,
        ranked: Sequence[RankedQuery],
        top: int | None,
        by: RankBy,
        source: str,
        others: tuple[str, ...],
        *,
        chosen: bool,
        compared: tuple[str, ...],
    ) -> Ranking:
        """The ranking of all queries, or its first rows."""
        few = next(
            (n for n, row in enumerate(ranked, 1) if row.running_share >= MOSTLY), len(ranked)
        )
        return cls(
            tuple(ranked[:top]),
            by,
            source,
            others,
            chosen,
            compared,
            len(ranked),
            sum(row.usage.total_ms for row in ranked),
            (few, ranked[few - 1].running_share if ranked else 0.0),
        )
