"""From many priced candidates to the few worth trying, each on its own merits."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from humble_ledger.core.messages import Told
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.model import Prediction

CLEAR_GAIN = 1.25  # predicted to be at least so many times cheaper for some query
AS_GOOD_AS = 1.03  # within this, the smaller index is the better one
SAME_SIZE = 1.1
LITTLE = 0.02  # of a query's cost


@dataclass(frozen=True, slots=True)
class Priced:
    """A design with its predictions for every query it touches, its size, and why it came up."""

    design: IndexDesign
    predictions: tuple[Prediction, ...]
    size_bytes: int
    reason: Told = ""

    @property
    def beside(self) -> tuple[IndexDesign, ...]:
        """What it needs beside it to help any query at all; empty where it helps one alone."""
        helping = [p for p in self.predictions if p.gain >= CLEAR_GAIN]
        if any(not p.beside for p in helping):
            return ()
        return tuple(dict.fromkeys(design for p in helping for design in p.beside))

    @property
    def saved(self) -> float:
        """Cost saved over all queries, in the server's units."""
        return sum(p.cost_before - p.cost_predicted for p in self.predictions)


def worth_trying(priced: Sequence[Priced], weights: Mapping[str, float]) -> list[Priced]:
    """Those that clearly help some query and are not beaten by a smaller one; best first.

    ``weights`` tells how much each query counts, such as how often it runs; a query without
    one counts once.
    """
    useful = [p for p in priced if any(x.gain >= CLEAR_GAIN for x in p.predictions)]
    ranked = sorted(useful, key=lambda p: (-_weighted(p, weights), p.size_bytes))
    return [one for one in ranked if not any(_beats(o, one) for o in ranked if o is not one)]


def _weighted(priced: Priced, weights: Mapping[str, float]) -> float:
    return sum(
        (p.cost_before - p.cost_predicted) * weights.get(p.query, 1.0) for p in priced.predictions
    )


def _beats(other: Priced, one: Priced) -> bool:
    """Whether ``other`` does as much for every query without being clearly larger."""
    if other.design.table != one.design.table:
        return False
    theirs = {p.query: p.cost_predicted for p in other.predictions}
    # What only some rows or other forms can have must save a good part to be worth its limits.
    allowed = LITTLE if special(one.design) > special(other.design) else 0.0
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


def special(design: IndexDesign) -> int:
    """How much an index is made for one query alone: added columns, a condition, expressions."""
    return (
        bool(design.included) + bool(design.predicate) + any(key.expression for key in design.keys)
    )


def _helped(predictions: Iterable[Prediction]) -> list[Prediction]:
    return [p for p in predictions if p.cost_predicted < p.cost_before]
