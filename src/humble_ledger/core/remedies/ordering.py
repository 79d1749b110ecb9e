"""The order in which remedies are shown: what saves most first, and the lightest of equals."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from functools import cmp_to_key

from humble_ledger.core.remedies.model import Remedy, RemedyType

ALIKE = 0.05  # of the saving of the better one: closer than that, the lighter one goes first
# What asks least of the database goes first: a new text, a setting, statistics, then indexes.
_LIGHTEST = (
    RemedyType.REWRITE, RemedyType.SETTING, RemedyType.STATISTICS,
    RemedyType.REMOVAL, RemedyType.INDEX,
)  # fmt: skip


def saving(remedy: Remedy, weights: Mapping[str, float]) -> float:
    """What a remedy saves by itself, by what a unit of each query's cost stands for."""
    return sum(
        (p.cost_before - p.cost_predicted) * weights.get(p.query, 1.0) for p in remedy.predictions
    )


def in_order(remedies: Iterable[tuple[float, Remedy]]) -> list[Remedy]:
    """By what each saves; those of which nothing is predicted come last."""

    def compare(one: tuple[float, Remedy], other: tuple[float, Remedy]) -> int:
        most = max(one[0], other[0])
        if most > 0 and abs(one[0] - other[0]) > ALIKE * most:
            return -1 if one[0] > other[0] else 1
        return _LIGHTEST.index(one[1].type) - _LIGHTEST.index(other[1].type)

    pairs = sorted(remedies, key=lambda pair: -pair[0])
    return [remedy for _, remedy in sorted(pairs, key=cmp_to_key(compare))]
