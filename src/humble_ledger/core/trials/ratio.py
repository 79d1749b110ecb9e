"""The ratio after/before with a distribution-free interval, and when to stop measuring.

Each pair gives one ratio. The estimate is the median of all pairwise means of the logarithms
(Hodges and Lehmann 1963), the interval comes from the exact distribution of Wilcoxon's
signed-rank statistic. Nothing is assumed of the noise but that within a pair it strikes both
sides alike, which the alternating order sees to; no run is thrown away.

Real machines disturb one connection for a while and then the other, so that neighbouring
pairs resemble each other and tell less than so many independent ones would. The interval is
widened by what the pairs themselves show of that (their lag-1 correlation, and how much the
means of batches vary), as it is usual for the mean of a correlated series.

Looking after every pair and stopping when it looks good would find differences where there
are none. So there are few looks, and the error rate of 5 % is spent over them: the first
look comes as soon as an interval exists at all, for the large effects; the rest is kept for
the small ones.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise

# (pairs, error rate spent at this look); the rates add up to 0.05.
LOOKS: tuple[tuple[int, float], ...] = ((6, 0.0315), (12, 0.0055), (20, 0.005), (40, 0.008))
FEWEST_PAIRS = LOOKS[0][0]
MOST_PAIRS = LOOKS[-1][0]
BATCHES = (2, 3, 4, 5)  # pairs whose mean is looked at, to see noise that lasts
FEWEST_BATCHES = 4


@dataclass(frozen=True, slots=True)
class RatioInterval:
    """after/before: estimate and interval; below 1 is faster. ``confidence`` of the interval."""

    estimate: float
    low: float
    high: float
    confidence: float
    pairs: int


def ratio_interval(
    before: Sequence[float], after: Sequence[float], error_rate: float
) -> RatioInterval | None:
    """The interval of after/before over pairs; None with too few pairs for this rate.

    ``before`` and ``after`` are milliseconds, one each per pair, all positive.
    """
    means = _pairwise_means(before, after)
    pairs = len(before)
    depth = signed_rank_depth(pairs, error_rate)
    if depth is None:
        return None
    logs = [math.log(a / b) for b, a in zip(before, after, strict=True)]
    wide = _widened(depth, pairs, effective_pairs(logs))
    return RatioInterval(
        estimate=math.exp(_median(means)),
        low=math.exp(means[wide]),
        high=math.exp(means[-1 - wide]),
        confidence=1.0 - 2.0 * _tail(pairs, depth),
        pairs=pairs,
    )


def covering_both(
    before: Sequence[float], changed: Sequence[float], again: Sequence[float]
) -> RatioInterval | None:
    """The interval of changed/before when the sides were measured one after the other.

    The first half of ``changed`` is held against ``before``, the rest against ``again``, the
    runs after the change was taken back; all in milliseconds. The interval covers both, so that
    what the machine did meanwhile widens it; None with too few runs. Nothing is looked at on
    the way, so that each half may spend the whole error rate.
    """
    rate = sum(rate for _, rate in LOOKS)
    early = min(len(before), len(changed))
    late = min(len(again), len(changed) - early)
    halves = [(before[:early], changed[:early]), (again[:late], changed[early : early + late])]
    found = [
        interval
        for old, new in halves
        if len(old) >= FEWEST_PAIRS and (interval := ratio_interval(old, new, rate)) is not None
    ]
    if len(found) < len(halves):
        return None
    return RatioInterval(
        estimate=math.exp(sum(math.log(each.estimate) for each in found) / len(found)),
        low=min(each.low for each in found),
        high=max(each.high for each in found),
        confidence=min(each.confidence for each in found),
        pairs=sum(each.pairs for each in found),
    )


def effective_pairs(logs: Sequence[float]) -> float:
    """How many independent pairs these are worth: n divided by the variance's inflation.

    The inflation is the largest of (1 + ρ)/(1 - ρ), with ρ the lag-1 correlation of the
    logarithms of the ratios, taken as 0 when negative and raised by what a short series is known
    to understate it, (1 + 3ρ)/n (Kendall 1954); and of the variance of the means of
    neighbouring batches, times their size, over that of single pairs (batch means, Schmeiser
    1982), which sees what lasts longer than two pairs. At least 6.
    """
    count = len(logs)
    mean = sum(logs) / count
    spread = sum((x - mean) ** 2 for x in logs)
    if spread <= 0.0:
        return float(count)
    shared = sum((a - mean) * (b - mean) for a, b in pairwise(logs))
    rho = shared / spread
    rho = min(max(rho + (1.0 + 3.0 * rho) / count, 0.0), 0.9)
    single = spread / (count - 1)
    inflations = [(1.0 + rho) / (1.0 - rho)]
    inflations += [
        size * _batch_variance(logs, size) / single
        for size in BATCHES
        if count // size >= FEWEST_BATCHES
    ]
    return max(min(count, FEWEST_PAIRS), count / max(inflations))


def _batch_variance(logs: Sequence[float], size: int) -> float:
    """The variance of the means of neighbouring batches; what is left over is left out."""
    means = [sum(logs[n : n + size]) / size for n in range(0, len(logs) - size + 1, size)]
    middle = sum(means) / len(means)
    return sum((each - middle) ** 2 for each in means) / (len(means) - 1)


def _widened(depth: int, pairs: int, effective: float) -> int:
    """The depth for correlated pairs: the distance to the middle grows as √(n / effective n)."""
    middle = pairs * (pairs + 1) / 4
    return max(0, math.floor(middle - (middle - depth) * math.sqrt(pairs / effective)))


def estimate_only(before: Sequence[float], after: Sequence[float]) -> float:
    """The estimate of the ratio, for progress and for trials broken off early."""
    return math.exp(_median(_pairwise_means(before, after)))


def _pairwise_means(before: Sequence[float], after: Sequence[float]) -> list[float]:
    """The sorted means of every pair of logarithms of ratios, each with itself too."""
    logs = [math.log(a / b) for b, a in zip(before, after, strict=True)]
    return sorted((logs[i] + logs[j]) / 2 for i in range(len(logs)) for j in range(i, len(logs)))


def signed_rank_depth(pairs: int, error_rate: float) -> int | None:
    """How many of the sorted pairwise means lie outside the interval on each side.

    The largest d with 2·P(W ≤ d) ≤ error_rate for the signed-rank statistic W of ``pairs``
    pairs; None when not even d = 0 is that rare.
    """
    depth = None
    for candidate in range(pairs * (pairs + 1) // 2):
        if 2.0 * _tail(pairs, candidate) > error_rate:
            break
        depth = candidate
    return depth


def rate_at(pairs: int, most: int) -> float | None:
    """The error rate to use when looking now, None when this is no moment to look.

    The last look, at ``most`` pairs, may take all that the looks after it would have.
    """
    if pairs == most:
        return 0.05 - sum(rate for count, rate in LOOKS if count < most)
    return next((rate for count, rate in LOOKS if count == pairs), None)


def running_order() -> Iterator[tuple[str, str]]:
    """The order within pairs: before-after, after-before, and so on."""
    while True:
        yield ("before", "after")
        yield ("after", "before")


def _tail(pairs: int, upto: int) -> float:
    """P(W ≤ upto)."""
    return sum(_counts(pairs)[: upto + 1]) / 2.0**pairs


@lru_cache(maxsize=64)
def _counts(pairs: int) -> tuple[int, ...]:
    """In how many of the 2^n sign patterns the signed-rank statistic has each value."""
    counts = [1] + [0] * (pairs * (pairs + 1) // 2)
    for rank in range(1, pairs + 1):
        for value in range(len(counts) - 1, rank - 1, -1):
            counts[value] += counts[value - rank]
    return tuple(counts)


def _median(values: Sequence[float]) -> float:
    middle = len(values) // 2
    return values[middle] if len(values) % 2 else (values[middle - 1] + values[middle]) / 2
