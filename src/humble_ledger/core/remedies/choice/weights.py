"""How much each query counts when a set of indexes is chosen for many."""

from __future__ import annotations

from enum import StrEnum


class Weights(StrEnum):
    """What makes a query count more than another one.

    By time, the captured milliseconds; by cost, what one run is estimated to cost; by calls, that
    times how often it was seen to run; equally, each query counts the same, so that halving any
    of them is worth the same.
    """

    TIME = "time"
    COST = "cost"
    CALLS = "calls"
    EQUALLY = "equally"

    @property
    def unit(self) -> str:
        """What a weight is counted in, for sentences: "it would save 12 ms more"."""
        return {
            Weights.TIME: "ms",
            Weights.COST: "of the cost",
            Weights.CALLS: "of the cost of all calls",
            Weights.EQUALLY: "of a query",
        }[self]

    @property
    def whole(self) -> str:
        """What all weights together are."""
        return {
            Weights.TIME: "the captured time",
            Weights.COST: "all cost",
            Weights.CALLS: "the cost of all calls",
            Weights.EQUALLY: "the cost of the queries, each counting the same",
        }[self]


def weight_of(weights: Weights, *, time_ms: float, cost: float, calls: int) -> float:
    """The weight of one query.

    Args:
        weights: what counts.
        time_ms: its captured time, 0 when none was captured.
        cost: the estimated cost of one run, in the server's units.
        calls: how often it was seen to run; 0 when it was not seen.
    """
    if weights is Weights.TIME:
        return time_ms
    if weights is Weights.EQUALLY:
        return 1.0
    return cost * (max(1, calls) if weights is Weights.CALLS else 1)
