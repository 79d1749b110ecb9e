"""What a query costs while its tables grow, as a line in a drawing; both axes by ratios."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise
from math import log

from humble_ledger.core.results.growth import GrowthCurve

WIDTH, HEIGHT = 640.0, 160.0
_MARGIN = 8.0  # so that a mark at an edge is whole
_LEAST = 0.01


@dataclass(frozen=True, slots=True)
class GrowthLine:
    """The line's points, and the places of the flips upon it."""

    points: str
    flips: tuple[tuple[float, float], ...]


def growth_line(curve: GrowthCurve) -> GrowthLine:
    """The curve in a drawing of 640 by 160."""
    sizes = [log(max(factor, _LEAST)) for factor, _ in curve.points]
    costs = [log(max(cost, _LEAST)) for _, cost in curve.points]
    across, up = max(sizes[-1] - sizes[0], _LEAST), max(max(costs) - min(costs), _LEAST)
    lowest = min(costs)

    def place(size: float, cost: float) -> tuple[float, float]:
        size = min(max(size, sizes[0]), sizes[-1])
        x = _MARGIN + (WIDTH - 2 * _MARGIN) * (size - sizes[0]) / across
        y = HEIGHT - _MARGIN - (HEIGHT - 2 * _MARGIN) * (cost - lowest) / up
        return round(x, 1), round(y, 1)

    def cost_at(size: float) -> float:
        """On the line between the two points around a size."""
        for (a, b), (p, q) in zip(pairwise(sizes), pairwise(costs), strict=True):
            if a <= size <= b:
                return p + (q - p) * (size - a) / max(b - a, _LEAST)
        return costs[-1]

    points = [place(size, cost) for size, cost in zip(sizes, costs, strict=True)]
    turns = [log(max(factor, _LEAST)) for factor, _, _ in curve.flips]
    return GrowthLine(
        " ".join(f"{x},{y}" for x, y in points),
        tuple(place(turn, cost_at(turn)) for turn in turns),
    )
