"""How good the predictions were: predicted cost against the cost a trial found."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass

NEAR = 0.25
SAME = 0.001  # a cost within a thousandth is the same


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

    @property
    def tells(self) -> bool:
        """Whether a change was predicted or found; to foretell that nothing changes is easy."""
        before = max(self.cost_before, 0.01)
        return any(abs(x / before - 1) > SAME for x in (self.cost_predicted, self.cost_found))


@dataclass(frozen=True, slots=True)
class Honesty:
    """Checked predictions together: those that tell, their median ratio and share within a quarter.

    ``unchanged`` are those that rightly said that nothing would change; they would flatter the
    figures, and are not in them.
    """

    checked: tuple[Checked, ...]
    median_ratio: float | None
    near_share: float | None
    unchanged: tuple[Checked, ...] = ()


def honesty(checked: Sequence[Checked]) -> Honesty:
    """The figures of some checked predictions."""
    telling = tuple(each for each in checked if each.tells)
    unchanged = tuple(each for each in checked if not each.tells)
    ratios = [each.ratio for each in telling]
    if not ratios:
        return Honesty((), None, None, unchanged)
    near = sum(1 - NEAR <= ratio <= 1 + NEAR for ratio in ratios) / len(ratios)
    return Honesty(telling, statistics.median(ratios), near, unchanged)
