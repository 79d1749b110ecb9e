"""From many priced candidates to the few worth trying."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from humble_ledger.core.remedies.candidates import Candidate
from humble_ledger.core.remedies.model import IndexDesign, Prediction

CLEAR_GAIN = 1.25  # predicted to be at least so many times cheaper for some query
AS_GOOD_AS = 1.03  # within this, the smaller index is the better one
SAME_SIZE = 1.1
LITTLE = 0.02  # of a query's cost


@dataclass(frozen=True, slots=True)
class Priced:
    """A candidate with its predictions for every query it touches, and its predicted size."""

    candidate: Candidate
    predictions: tuple[Prediction, ...]
    size_bytes: int

    @property
    def design(self) -> IndexDesign:
        """The index."""
        return self.candidate.design

    @property
    def saved(self) -> float:
        """Cost saved over all queries, in the server's units."""
        return sum(p.cost_before - p.cost_predicted for p in self.predictions)


def worth_trying(priced: Sequence[Priced], weights: dict[str, float]) -> list[Priced]:
    """Those that clearly help some query and are not beaten by a smaller one; best first.

    ``weights`` tells how often each query runs; a query without one counts once.
    """
    useful = [p for p in priced if any(x.gain >= CLEAR_GAIN for x in p.predictions)]
    ranked = sorted(useful, key=lambda p: (-_weighted(p, weights), p.size_bytes))
    kept: list[Priced] = []
    for one in ranked:
        rivals = [other for other in ranked if other is not one]
        if not any(_beats(other, one) for other in rivals):
            kept.append(one)
    return kept


def _weighted(priced: Priced, weights: dict[str, float]) -> float:
    return sum(
        (p.cost_before - p.cost_predicted) * weights.get(p.query, 1.0) for p in priced.predictions
    )


def _beats(other: Priced, one: Priced) -> bool:
    """Whether ``other`` does as much for every query without being clearly larger."""
    if other.design.table != one.design.table:
        return False
    theirs = {p.query: p.cost_predicted for p in other.predictions}
    # Columns that are only read from it must save a good part of the cost to be worth their room.
    allowed = LITTLE if one.design.included and not other.design.included else 0.0
    as_good = all(
        theirs.get(p.query, float("inf")) <= p.cost_predicted * AS_GOOD_AS + allowed * p.cost_before
        for p in _helped(one.predictions)
    )
    if not as_good:
        return False
    if other.size_bytes > SAME_SIZE * one.size_bytes:
        return False
    if allowed:
        return True
    better = other.saved > AS_GOOD_AS * one.saved
    if better or other.size_bytes * SAME_SIZE < one.size_bytes:
        return True
    if one.saved > AS_GOOD_AS * other.saved:
        return False
    # Alike in every way: fewer keys, then the alphabet, so that the answer is always the same.
    return (len(other.design.keys), other.design.words) < (len(one.design.keys), one.design.words)


def _helped(predictions: Iterable[Prediction]) -> list[Prediction]:
    return [p for p in predictions if p.cost_predicted < p.cost_before]
