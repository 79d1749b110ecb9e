"""How the cost of queries grows with their tables."""

from __future__ import annotations

import math
from dataclasses import dataclass

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.choice.worth import CLEAR_GAIN

LINEAR = 1.1  # the power of the growth up to which a cost grows with the rows


@dataclass(frozen=True, slots=True)
class Size:
    """A query at one size of the tables: ``factor`` times their rows of now, and its plan."""

    factor: float
    plan: Plan

    @property
    def cost(self) -> float:
        """The planner's estimate."""
        return self.plan.cost_total or 0.0


@dataclass(frozen=True, slots=True)
class Flip:
    """Where the planner turns to another plan: still the old one at ``last``, no more at
    ``first``.
    """

    last: Size
    first: Size

    @property
    def factor(self) -> float:
        """The middle of the two, by ratio."""
        return math.sqrt(self.last.factor * self.first.factor)


@dataclass(frozen=True, slots=True)
class Worth:
    """What a proposed index does for a query: times cheaper now, and at the last size.

    ``turns`` are the factors at which it begins to pay, or ceases to, in order; whether it pays at
    first follows from ``gain_now``.
    """

    remedy: str
    index: str
    gain_now: float
    gain_then: float
    turns: tuple[float, ...] = ()

    @property
    def pays_now(self) -> bool:
        """Whether it is worth having at the present size."""
        return self.gain_now >= CLEAR_GAIN


@dataclass(frozen=True, slots=True)
class GrownQuery:
    """One query from the present size to the last, with the flips in between.

    ``worths`` tells of the indexes that were proposed for it.
    """

    query: str
    statement: str
    sizes: tuple[Size, ...]
    flips: tuple[Flip, ...]
    worths: tuple[Worth, ...] = ()

    @property
    def power(self) -> float:
        """The power of the growth with which the cost grows: 1 is in step with the rows."""
        first, last = self.sizes[0], self.sizes[-1]
        if last.factor == first.factor or not first.cost or not last.cost:
            return 0.0
        return math.log(last.cost / first.cost) / math.log(last.factor / first.factor)

    @property
    def worse_than_linear(self) -> bool:
        """Whether the cost grows clearly faster than the rows."""
        return self.power > LINEAR


@dataclass(frozen=True, slots=True)
class GrowthCurve:
    """What is kept of one query's growth: costs by size, and where another plan came.

    ``points`` are (times the rows of then, the planner's cost), in order; ``flips`` are (times the
    rows, the plan before, the plan from there on), plans in a few words.
    """

    tables: tuple[tuple[str, float], ...]
    points: tuple[tuple[float, float], ...]
    flips: tuple[tuple[float, str, str], ...] = ()
    longer_history: bool = False

    @property
    def words(self) -> str:
        """How the cost grows, in a few words."""
        grown = ", ".join(f"{table} {factor:,.4g}×" for table, factor in self.tables)
        first, last = self.points[0][1], self.points[-1][1]
        at = ", ".join(f"{factor:,.3g}×" for factor, _, _ in self.flips)
        turns = f"; the plan turns at {at}" if at else ""
        return f"with {grown} its estimated cost goes from {first:,.0f} to {last:,.0f}{turns}"


@dataclass(frozen=True, slots=True)
class Growth:
    """Tables grown step by step, and what becomes of each query.

    ``tables`` are those that grow, each with the factor it reaches; the steps of a query are told
    by the largest of these. With ``longer_history`` the rows that are added are older ones.
    ``unaffected`` queries read none of them.
    """

    tables: tuple[tuple[str, float], ...]
    queries: tuple[GrownQuery, ...]
    unaffected: tuple[str, ...] = ()
    left_out: tuple[tuple[str, str], ...] = ()
    notes: tuple[str, ...] = ()
    asked: int = 0
    longer_history: bool = False
