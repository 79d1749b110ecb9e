"""What every way of predicting offers, and what it may ask of the target.

A predictor is handed a plan with the ways it reads its tables, and some indexes that are not
there; it says what the server would estimate for the whole plan if they were. Each way (the
published formulas, the real planner on a copy without data) fulfils this one contract, so that
choosing among candidates does not depend on it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

from humble_ledger.core.costs.model import IndexShape, KeySample
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.candidates.accesses import accesses
from humble_ledger.core.remedies.candidates.model import Access
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.model import Prediction
from humble_ledger.core.schema.facts import IndexKey, TableFacts, TableName
from humble_ledger.core.statements.kinds import Statement


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

    def sample_terms(
        self, table: TableName, key: IndexKey, type_name: str
    ) -> tuple[KeySample, float] | None:
        """Terms that an inverted index on a key would have, and how many a row has.

        None where no sample can be taken, or what the terms of such a type are is not known.
        """
        ...


class WhatIfPlanner(Protocol):
    """A planner that can be told of indexes which are not there.

    ``lacks`` says what it does not know of the target, ``failed`` why each plan that it could not
    make was not made; by ``tolerance``, a part of the cost, its plans may differ from the target's
    with nothing supposed. More than ``most_at_once`` indexes of one table take it long.
    """

    failed: list[str]

    @property
    def tolerance(self) -> float:
        """By what part of a cost it may be off."""
        ...

    @property
    def most_at_once(self) -> int:
        """So many indexes of a table may be supposed together only to see which it takes."""
        ...

    @property
    def asked(self) -> int:
        """How many plans it was asked for."""
        ...

    @property
    def lacks(self) -> Sequence[str]:
        """What it does not know of the target, a sentence each."""
        ...

    def plan(self, statement: Statement, designs: Mapping[IndexDesign, IndexShape]) -> Plan | None:
        """The plan with these indexes, each of a size; None when it cannot be told."""
        ...

    def names(self, designs: Mapping[IndexDesign, IndexShape]) -> Mapping[str, IndexDesign]:
        """What these indexes are called in such a plan."""
        ...

    def guesses(self, design: IndexDesign) -> bool:
        """Whether it knows nothing of an expression that this supposed index is on."""
        ...

    def forget(self, designs: Mapping[IndexDesign, IndexShape]) -> None:
        """Do without these indexes from now on."""
        ...


@dataclass(frozen=True, slots=True)
class Asked:
    """What is predicted for: a statement, its present plan, and how that reads its tables.

    ``wholes`` are the tables whose partitions it reads.
    """

    statement: Statement
    plan: Plan
    accesses: Sequence[Access]
    wholes: Sequence[TableFacts] = ()

    @staticmethod
    def of(statement: Statement, plan: Plan, tables: Mapping[TableName, TableFacts]) -> Asked:
        """What is predicted for, from facts of the tables of a plan and of those they are of."""
        ways = tuple(accesses(plan, tables))
        roots = {access.table.root for access in ways}
        wholes = tuple(table for name, table in tables.items() if name in roots)
        return Asked(statement, plan, ways, wholes)


@dataclass(frozen=True, slots=True)
class Used:
    """One index that the predicted plan uses: in place of which step, by which route."""

    design: IndexDesign
    step: str
    route: str
    caution: str = ""


@dataclass(frozen=True, slots=True)
class WhatIfCost:
    """The cost of a plan if some indexes were there, which of them it would use, and in what way
    that was predicted.
    """

    cost_before: float
    cost: float
    used: tuple[Used, ...] = ()
    way: str = ""

    def prediction(self, query: str) -> Prediction:
        """The outlook as what a remedy promises for a query."""
        first = self.used[0] if self.used else Used(_NO_DESIGN, "", "")
        cautions = dict.fromkeys(used.caution for used in self.used if used.caution)
        return Prediction(
            query,
            self.cost_before,
            self.cost,
            self.way,
            first.step,
            first.route,
            "; ".join(cautions),
        )


_NO_DESIGN = IndexDesign(TableName("", ""), ())


class Predictor(Protocol):
    """One way of predicting."""

    way: str

    @property
    def plans_asked(self) -> int:
        """How many plans a planner made for it so far."""
        ...

    @property
    def cautions(self) -> Sequence[str]:
        """What may make all its predictions worse, a sentence each."""
        ...

    def outlook(self, asked: Asked, designs: Sequence[IndexDesign]) -> WhatIfCost:
        """What a statement would cost with all these indexes; never more than without them."""
        ...

    def shape(self, design: IndexDesign, table: TableFacts) -> IndexShape:
        """The size the index would have when freshly built."""
        ...
