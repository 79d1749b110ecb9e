"""Where figures lie: calls over time as bars, ratios on a scale of factors."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime

from humble_ledger.core.entries import PeriodEntry

BINS = 32
# The scale of ratios after/before: from a thousandth to tenfold, a tenth between two marks.
_LOWEST, _HIGHEST = -3.0, 1.0


@dataclass(frozen=True, slots=True)
class Window:
    """The time that all captured runs lie in, in seconds since 1970; None where none is known."""

    first_s: float | None = None
    last_s: float | None = None

    @staticmethod
    def of(periods: Iterable[PeriodEntry]) -> Window:
        """From the first to the last of some periods."""
        moments = [s for each in periods for s in _ends(each)]
        return Window(min(moments), max(moments)) if moments else Window()


def bars(periods: Sequence[PeriodEntry], window: Window) -> list[float]:
    """The time that runs took in each of `BINS` equal parts of the window, the most being 1.

    [] where no period has a time. What took long within one period is spread evenly over it.
    """
    if window.first_s is None or window.last_s is None:
        return []
    width = max(window.last_s - window.first_s, 1.0) / BINS
    found = [0.0] * BINS
    known = False
    for each in periods:
        ends = _ends(each)
        if not ends:
            continue
        known = True
        low = min(BINS - 1, int((ends[0] - window.first_s) / width))
        high = min(BINS - 1, int((ends[-1] - window.first_s) / width))
        for number in range(low, high + 1):
            found[number] += each.total_ms / (high - low + 1)
    most = max(found)
    return [value / most if most > 0 else 0.0 for value in found] if known else []


def _ends(period: PeriodEntry) -> list[float]:
    return [
        datetime.fromisoformat(each).timestamp()
        for each in (period.first_at, period.last_at)
        if each
    ]


@dataclass(frozen=True, slots=True)
class Interval:
    """Places on the scale of ratios, from 0 (left) to 1; ``one`` is where nothing has changed."""

    estimate: float
    low: float
    high: float
    one: float


def interval(estimate: float, low: float, high: float) -> Interval:
    """Where a ratio and its interval lie; what is off the scale lies at its end."""
    return Interval(*(_place(each) for each in (estimate, low, high, 1.0)))


def _place(ratio: float) -> float:
    log = math.log10(max(ratio, 1e-9))
    return min(1.0, max(0.0, (log - _LOWEST) / (_HIGHEST - _LOWEST)))
