"""Whether a query has become slower or faster between two captures, beyond what it varies by.

Captures tell durations minute by minute. Runs of one minute resemble each other, so a minute counts
as one observation: the two sides are samples of minutes. The ratio of a later to an earlier one is
estimated by the median of all differences of logarithms (Hodges and Lehmann 1963), its interval
comes from the rank-sum statistic (Mann and Whitney 1947) in its normal approximation, widened by
what neighbouring minutes have in common.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from statistics import NormalDist

from humble_ledger.core.trials.model import Verdict
from humble_ledger.core.trials.ratio import FEWEST_PAIRS, RatioInterval, effective_pairs
from humble_ledger.core.trials.verdicts import judge_time

FEWEST = FEWEST_PAIRS  # observations of each side
FEWEST_RUNS = 12  # of each side, where there are too few minutes
MOST = 400  # observations of a side; more tell hardly more, and all pairs are looked at
ERROR_RATE = 0.05


@dataclass(frozen=True, slots=True)
class Observed:
    """What a query took on one side: the time of each minute or run (ms), and of how many runs."""

    values_ms: tuple[float, ...]
    runs: int
    unit: str  # minutes, looks or runs

    @property
    def enough(self) -> bool:
        """Whether anything can be said of so few."""
        return len(self.values_ms) >= (FEWEST_RUNS if self.unit == "runs" else FEWEST)


@dataclass(frozen=True, slots=True)
class Drift:
    """A query held against its own past: the ratio later/earlier, and the verdict on it.

    ``verdict`` is None while the interval settles nothing; ``medians_ms`` are of both sides.
    """

    query: str
    ratio: RatioInterval
    verdict: Verdict | None
    medians_ms: tuple[float, float]
    earlier: Observed
    later: Observed


def drift(query: str, earlier: Observed, later: Observed, compared: int = 1) -> Drift | None:
    """The drift of a query; None with too few observations.

    ``compared`` queries are looked at together, so each may be wrong the more rarely, that one of
    all is as rarely as one alone.
    """
    if not (earlier.enough and later.enough):
        return None
    ratio = two_samples(earlier.values_ms, later.values_ms, ERROR_RATE / max(1, compared))
    verdict = judge_time(_cautious(ratio, earlier, later))
    medians = (_median(earlier.values_ms), _median(later.values_ms))
    return Drift(query, ratio, verdict, medians, earlier, later)


def two_samples(
    earlier: Sequence[float], later: Sequence[float], error_rate: float
) -> RatioInterval:
    """The ratio later/earlier of two samples of positive times, with its interval.

    ``pairs`` of the interval is the number of observations of the smaller sample.
    """
    before, after = (_logs(_thinned(values)) for values in (earlier, later))
    differences = sorted(y - x for x in before for y in after)
    m, n = len(before), len(after)
    z = NormalDist().inv_cdf(1.0 - error_rate / 2.0)
    spread = math.sqrt(m * n * (m + n + 1) / 12.0)
    # Neighbours that resemble each other tell less than so many independent ones would.
    spread *= math.sqrt(max(m / effective_pairs(before), n / effective_pairs(after)))
    depth = max(0, math.floor(m * n / 2.0 - z * spread))
    return RatioInterval(
        estimate=math.exp(_median(differences)),
        low=math.exp(differences[depth]),
        high=math.exp(differences[-1 - depth]),
        confidence=1.0 - error_rate,
        pairs=min(m, n),
    )


def _cautious(ratio: RatioInterval, earlier: Observed, later: Observed) -> RatioInterval:
    """Single runs of a few minutes cannot show how a machine wavers: only large effects count."""
    if "runs" not in (earlier.unit, later.unit):
        return ratio
    return RatioInterval(
        ratio.estimate, ratio.low, ratio.high, ratio.confidence, min(ratio.pairs, FEWEST_PAIRS)
    )


def _logs(values: Sequence[float]) -> list[float]:
    return [math.log(max(value, 1e-3)) for value in values]


def _thinned(values: Sequence[float]) -> Sequence[float]:
    if len(values) <= MOST:
        return values
    step = len(values) / MOST
    return [values[int(number * step)] for number in range(MOST)]


def _median(values: Sequence[float]) -> float:
    ordered = sorted(values)
    middle = len(ordered) // 2
    return ordered[middle] if len(ordered) % 2 else (ordered[middle - 1] + ordered[middle]) / 2
