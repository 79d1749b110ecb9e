"""How good the predictions were: predicted cost against the cost a trial found."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass

NEAR = 0.25


@dataclass(frozen=True, slots=True)
class Checked:
    """One prediction that a trial checked; costs in the server's units.

    ``faster`` is before/after of the measured median times, None without times.
    """

    trial: str
    remedy: str
    query: str
    way: str
    cost_before: float
    cost_predicted: float
    cost_found: float
    faster: float | None = None

    @property
    def ratio(self) -> float:
        """Predicted over found."""
        return self.cost_predicted / max(self.cost_found, 0.01)

    @property
    def cheaper(self) -> float:
        """How many times cheaper the query was found to be."""
        return self.cost_before / max(self.cost_found, 0.01)


@dataclass(frozen=True, slots=True)
class Honesty:
    """All checked predictions together: the median ratio, and the share within a quarter."""

    checked: tuple[Checked, ...]
    median_ratio: float | None
    near_share: float | None


def honesty(checked: Sequence[Checked]) -> Honesty:
    """The figures of some checked predictions."""
    ratios = [each.ratio for each in checked]
    if not ratios:
        return Honesty((), None, None)
    near = sum(1 - NEAR <= ratio <= 1 + NEAR for ratio in ratios) / len(ratios)
    return Honesty(tuple(checked), statistics.median(ratios), near)
