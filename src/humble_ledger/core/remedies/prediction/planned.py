"""The planner's way of predicting: a real planner is told of the indexes, and plans anew.

It knows what no formula for one step does: other join orders, the effect of LIMIT, an index that
serves several steps. Where it cannot be asked, or plans the statement as it is otherwise than
the target does, the formula stands in, and the prediction says so.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from humble_ledger.core.costs.contract import CostModel
from humble_ledger.core.costs.model import IndexShape
from humble_ledger.core.plans.model import Node, Plan
from humble_ledger.core.remedies.candidates.model import Access, Candidate
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.prediction.cautions import caution_of_planner, concerning
from humble_ledger.core.remedies.prediction.contract import (
    Asked,
    Predictor,
    Used,
    WhatIfCost,
    WhatIfPlanner,
)
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.statements.kinds import Statement

WAY = "planner"
# A candidate that no rule came to must at least halve what those leave that one did, and save so
# much of the present cost beside them: a larger index for the rest of a rest is not worth it.
CLEARLY_CHEAPER, WORTH_MORE = 0.5, 0.1
OF_A_SCAN = 0.05  # of reading a whole table: an index that no rule asks for must save so much


@dataclass(slots=True)
class PlannedPredictor:
    """Predictions by a planner that can suppose indexes; see `prediction.contract.Predictor`.

    ``formula`` gives the sizes of indexes, and stands in where the planner cannot be asked, which
    the way of each prediction tells. ``target`` tells what a statement costs
    on the target at this moment, None when it does not.
    """

    planner: WhatIfPlanner
    formula: Predictor
    costs: CostModel
    target: Callable[[Statement], float | None] = lambda _: None
    tables: Mapping[TableName, TableFacts] = field(default_factory=dict)
    way: str = WAY
    _now: dict[Statement, float | None] = field(default_factory=dict)
    _read: set[str] = field(default_factory=set)  # the tables of the statements asked about
    _plans: dict[tuple[Statement, frozenset[IndexDesign]], Plan | None] = field(
        default_factory=dict
    )

    @property
    def plans_asked(self) -> int:
        """Plans made with and without supposed indexes."""
        return self.planner.asked

    @property
    def cautions(self) -> Sequence[str]:
        """What the planner does not know of the target, and how often it could not be asked."""
        lacks = concerning(self.planner.lacks, self._read)
        found = [f"about the copy: {lack}" for lack in lacks]
        if failed := self.planner.failed:
            count = f"{len(failed)} plan{'s' if len(failed) > 1 else ''}"
            found.append(f"{count} could not be made on it, the first because: {failed[0]}")
        return found

    def outlook(self, asked: Asked, designs: Sequence[IndexDesign]) -> WhatIfCost:
        """What the statement would cost with all these indexes.

        Dearer by what copy and target may differ in, it is as now; by more, the planner is misled.
        """
        before = asked.plan.cost_total or 0.0
        self._read.update(f"{n.schema}.{n.relation}" for n in asked.plan.nodes() if n.relation)
        mine = self._shapes(asked, designs)
        now = self._plan(asked.statement, {})
        if now is not None and not self._same(now, before):
            # Perhaps the plan is of an earlier day; then what the target would do now counts.
            before = self._on_target(asked.statement) or before
        if now is None or not self._same(now, before):
            return self.formula.outlook(asked, designs)
        found = self._plan(asked.statement, mine)
        if found is None or found.cost_total is None:
            return self.formula.outlook(asked, designs)
        used = tuple(self._uses(found, asked, self.planner.names(mine)))
        if not used:
            # What is not used changes nothing, whatever the copy makes of it.
            return WhatIfCost(before, before, (), self.way)
        most = max(before, now.cost_total or 0.0)
        misled = found.cost_total > most and not self._same(found, most)
        if found.cost_total >= before and not misled:
            return WhatIfCost(before, before, (), self.way)
        return WhatIfCost(before, found.cost_total, used, self.way)

    def _uses(self, plan: Plan, asked: Asked, names: Mapping[str, IndexDesign]) -> Iterator[Used]:
        """Which supposed indexes a plan uses, and in place of which step of the present one."""
        for node in plan.nodes():
            design = names.get(node.index)
            if design is not None:
                step = _replaced(asked.accesses, design, node)
                caution = caution_of_planner(design, guessed=self.planner.guesses(design))
                yield Used(design, step, _route(plan, node), caution)

    def _same(self, plan: Plan, cost: float | None) -> bool:
        return nearly_same(plan.cost_total or 0.0, cost or 0.0, self.planner.tolerance)

    def _on_target(self, statement: Statement) -> float | None:
        if statement not in self._now:
            self._now[statement] = self.target(statement)
        return self._now[statement]

    def taken_of(
        self, asked: Asked, usual: Sequence[Candidate], wide: Sequence[Candidate]
    ) -> list[Candidate]:
        """Those of many more candidates without which the statement would be clearly dearer.

        All are supposed at once, and the planner takes what it likes. For this the sizes of
        indexes are computed from statistics alone: reading samples for all would take longer
        than the answer is worth.
        """
        wide = self._few_enough(usual, wide)
        first, second = ({c.design: self._rough(c) for c in some} for some in (usual, wide))
        if not second:
            return []
        among = self.planner.plan(asked.statement, first)
        found = self.planner.plan(asked.statement, first | second)
        used = set()
        if among is not None and found is not None:
            names = self.planner.names(second)
            left, then = among.cost_total or 0.0, found.cost_total or 0.0
            saved = left - then
            if then < CLEARLY_CHEAPER * left and saved > WORTH_MORE * (asked.plan.cost_total or 0):
                used = {names[node.index] for node in found.nodes() if node.index in names}
            tables = {c.access.table.name: c.access.table for c in wide}
            scans = [self.costs.full_scan(tables[design.table]) for design in used]
            if saved < OF_A_SCAN * min(scans, default=0.0):
                used = set()
        self.planner.forget(first | second)
        return [c for c in wide if c.design in used]

    def _few_enough(
        self, usual: Sequence[Candidate], wide: Sequence[Candidate]
    ) -> Sequence[Candidate]:
        """The first ones of each table, as many as can be asked about at once."""
        there = Counter(c.design.table for c in usual)
        kept = []
        for candidate in wide:
            there[candidate.design.table] += 1
            if there[candidate.design.table] <= self.planner.most_at_once:
                kept.append(candidate)
        return kept

    def with_all_of(
        self, asked: Asked, some: Sequence[Candidate]
    ) -> tuple[float | None, list[IndexDesign]]:
        """The cost if all of these were there, and which the planner would take.

        None where it cannot be asked, or plans the statement as it is otherwise than the target.
        """
        now = self._plan(asked.statement, {})
        if now is None or not self._same(now, asked.plan.cost_total):
            return None, []
        shapes = {c.design: self._rough(c) for c in some}
        found = self.planner.plan(asked.statement, shapes)
        names = self.planner.names(shapes)
        used = {names[n.index] for n in found.nodes() if n.index in names} if found else set()
        self.planner.forget(shapes)
        return (found.cost_total if found else None), sorted(used, key=lambda d: d.words)

    def _rough(self, candidate: Candidate) -> IndexShape:
        table, design = candidate.access.table, candidate.design
        if design.method != IndexMethod.SORTED or not all(k.column for k in design.keys):
            return self.shape(design, table)
        return self.costs.sizes.in_order(
            table,
            [table.columns[key.column] for key in design.keys],
            [table.columns[name] for name in design.included],
        )

    def plan(self, asked: Asked, designs: Sequence[IndexDesign]) -> Plan | None:
        """The whole plan with these indexes; None where the planner cannot be asked."""
        return self._plan(asked.statement, self._shapes(asked, designs))

    def shape(self, design: IndexDesign, table: TableFacts) -> IndexShape:
        """The size the index would have when freshly built."""
        return self.formula.shape(design, table)

    def _shapes(
        self, asked: Asked, designs: Sequence[IndexDesign]
    ) -> dict[IndexDesign, IndexShape]:
        facts = {access.table.name: access.table for access in asked.accesses} | dict(self.tables)
        facts |= {table.name: table for table in asked.wholes}
        return {d: self.shape(d, facts[d.table]) for d in designs if d.table in facts}

    def _plan(self, statement: Statement, designs: Mapping[IndexDesign, IndexShape]) -> Plan | None:
        key = (statement, frozenset(designs))
        if key not in self._plans:
            self._plans[key] = self.planner.plan(statement, designs)
        return self._plans[key]


def nearly_same(cost: float, other: float, tolerance: float) -> bool:
    """Whether a copy plans as its target does, by the costs with nothing supposed."""
    return abs(cost - other) <= tolerance * max(cost, other, 1.0)


def _replaced(accesses: Sequence[Access], design: IndexDesign, node: Node) -> str:
    """The step that reads the same table now, by the same alias where it can be told."""
    same = [a for a in accesses if design.table in (a.table.name, a.table.root)]
    by_alias = [access for access in same if node.alias and access.alias == node.alias]
    chosen = (by_alias or same)[:1]
    return chosen[0].node.name if chosen else "the present plan"


def _route(plan: Plan, node: Node) -> str:
    """How the index is read: "index scan", "nested loop with index only scan"."""
    words = node.label.lower().removeprefix("parallel ").replace("bitmap index", "bitmap")
    loops = any(
        parent.operation.value == "nested_loop" and node in parent.children[1:]
        for parent in plan.nodes()
    )
    return f"nested loop with {words}" if loops else words
