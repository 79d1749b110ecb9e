"""What every way of predicting offers, and what it may ask of the target.

A predictor is handed a plan with the ways it reads its tables, and some indexes that are not
there; it says what the server would estimate for the whole plan if they were. Each way (the
published formulas, the real planner on a copy without data) fulfils this one contract, so that
choosing among candidates does not depend on it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

from humble_ledger.core.costs.model import IndexShape, KeySample
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.candidates.model import Access
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.model import Prediction
from humble_ledger.core.schema.facts import IndexKey, TableFacts, TableName


class SelectivityEstimator(Protocol):
    """The target's planner, asked for row estimates; and a small sample of its tables."""

    def rows_matching(self, table: TableName, alias: str, conditions: Sequence[str]) -> float:
        """Rows that meet all these conditions."""
        ...

    def rows_per_value(self, table: TableName, columns: Sequence[str]) -> float:
        """Rows that equal one unknown value per column."""
        ...

    def sample_keys(
        self, table: TableName, keys: Sequence[IndexKey], included: Sequence[str], predicate: str
    ) -> KeySample | None:
        """Entries that an index would have, from a block sample; None when none can be taken."""
        ...


@dataclass(frozen=True, slots=True)
class Used:
    """One index that the predicted plan uses: in place of which step, by which route."""

    design: IndexDesign
    step: str
    route: str
    caution: str = ""


@dataclass(frozen=True, slots=True)
class WhatIfCost:
    """The cost of a plan if some indexes were there, and which of them it would use."""

    cost_before: float
    cost: float
    used: tuple[Used, ...] = ()

    def prediction(self, query: str, way: str) -> Prediction:
        """The outlook as what a remedy promises for a query."""
        first = self.used[0] if self.used else Used(_NO_DESIGN, "", "")
        cautions = dict.fromkeys(used.caution for used in self.used if used.caution)
        return Prediction(
            query, self.cost_before, self.cost, way, first.step, first.route, "; ".join(cautions)
        )


_NO_DESIGN = IndexDesign(TableName("", ""), ())


class Predictor(Protocol):
    """One way of predicting."""

    way: str

    def outlook(
        self, plan: Plan, accesses: Sequence[Access], designs: Sequence[IndexDesign]
    ) -> WhatIfCost:
        """What the plan would cost with all these indexes; never more than without them."""
        ...

    def shape(self, design: IndexDesign, table: TableFacts) -> IndexShape:
        """The size the index would have when freshly built."""
        ...
