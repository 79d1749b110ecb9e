"""What a query took in all: calls, time, rows and pages, summed over runs or periods."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, fields

from humble_ledger.core.workload.durations import bucket_of, middle_of, quantile_bucket


@dataclass(frozen=True, slots=True)
class Work:
    """What the server did, where the source tells it; None is unknown, not nothing.

    Pages are the server's pages, times milliseconds, WAL bytes.
    """

    rows: float | None = None
    pages_cached: float | None = None
    pages_read: float | None = None
    pages_written: float | None = None
    temp_pages: float | None = None
    planning_ms: float | None = None
    wal_bytes: float | None = None
    compile_ms: float | None = None

    def plus(self, other: Work) -> Work:
        """Both together; what one of them does not know is not counted."""
        return Work(**{f.name: _sum(getattr(self, f.name), getattr(other, f.name)) for f in _WORK})

    def minus(self, other: Work) -> Work:
        """What came on top of the other; unknown where one of them is, never below nought."""
        return Work(**{f.name: _less(getattr(self, f.name), getattr(other, f.name)) for f in _WORK})


_WORK = fields(Work)
NO_WORK = Work()


@dataclass(frozen=True, slots=True)
class Usage:
    """Runs summed up: how many, their time, and the spread of their durations.

    ``calls`` counts all runs, ``timed`` those whose duration is known. ``durations`` are the
    counts of `core.workload.durations`; empty when the source tells only sums, and then
    ``squares_ms2``, the sum of squared durations, still gives the deviation.
    """

    calls: int = 0
    timed: int = 0
    total_ms: float = 0.0
    squares_ms2: float = 0.0
    max_ms: float | None = None
    durations: Mapping[int, int] = field(default_factory=dict)
    work: Work = NO_WORK

    @classmethod
    def of_runs(cls, durations_ms: Iterable[float]) -> Usage:
        """The usage of runs with these durations."""
        runs = list(durations_ms)
        counts: dict[int, int] = {}
        for each in runs:
            counts[bucket_of(each)] = counts.get(bucket_of(each), 0) + 1
        return cls(
            len(runs),
            len(runs),
            sum(runs),
            sum(each * each for each in runs),
            max(runs, default=None),
            counts,
        )

    @property
    def mean_ms(self) -> float:
        """The mean duration; 0 of none."""
        return self.total_ms / self.timed if self.timed else 0.0

    @property
    def deviation_ms(self) -> float:
        """The standard deviation of the durations."""
        if not self.timed:
            return 0.0
        return math.sqrt(max(0.0, self.squares_ms2 / self.timed - self.mean_ms**2))

    @property
    def p95_ms(self) -> float | None:
        """The duration that 95 % of the runs do not exceed; None where only sums are known."""
        return self.quantile_ms(0.95)

    def quantile_ms(self, part: float) -> float | None:
        """A quantile of the durations, within a quarter of a percent; None when unknown."""
        if not self.durations:
            return None
        bucket = quantile_bucket(self.durations, part)
        if self.max_ms is not None and bucket == max(self.durations):
            return self.max_ms  # the slowest run stands in this bucket, and is known exactly
        return middle_of(bucket)

    def plus(self, other: Usage) -> Usage:
        """Both together."""
        counts = dict(self.durations)
        for bucket, count in other.durations.items():
            counts[bucket] = counts.get(bucket, 0) + count
        highest = [each for each in (self.max_ms, other.max_ms) if each is not None]
        return Usage(
            self.calls + other.calls,
            self.timed + other.timed,
            self.total_ms + other.total_ms,
            self.squares_ms2 + other.squares_ms2,
            max(highest, default=None),
            counts,
            self.work.plus(other.work),
        )


def _sum(one: float | None, other: float | None) -> float | None:
    if one is None or other is None:
        return one if other is None else other
    return one + other


def _less(one: float | None, other: float | None) -> float | None:
    return None if one is None or other is None else max(one - other, 0.0)
