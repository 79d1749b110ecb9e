"""The formula way of predicting: what would this plan cost if those indexes existed?

Selectivities come from the target's own planner (`SelectivityEstimator`, answered with EXPLAIN),
the rest from its published formulas. Three routes are priced: reading the table alone through the
index (with or without its order), looking rows up through it once per row of the other side
of a join, and the end of the index where min or max stands. The cheapest wins; with several
indexes the best goes first and the next is priced in the plan that this leaves, so that a
second index on a query brings less. Whole-plan effects beyond that (another join order) are
out of the formula's reach; such a prediction is rather too high than too low.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from humble_ledger.core.costs.contract import CostModel
from humble_ledger.core.costs.model import IndexShape, ScanCost, Search
from humble_ledger.core.plans.model import JOINS, Node, Operation, Plan, Role
from humble_ledger.core.plans.paths import path_to, rows_divided_by
from humble_ledger.core.plans.tables import alias_of
from humble_ledger.core.remedies.candidates.accesses import needed_columns
from humble_ledger.core.remedies.candidates.extremes import extreme_of
from humble_ledger.core.remedies.candidates.model import Access
from humble_ledger.core.remedies.candidates.sides import asked_apart
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.prediction.cautions import caution_of
from humble_ledger.core.remedies.prediction.contract import (
    Asked,
    SelectivityEstimator,
    Used,
    WhatIfCost,
)
from humble_ledger.core.remedies.prediction.matching import Match, gives_order, match
from humble_ledger.core.remedies.prediction.recosting import Replacement, recost, recosted
from humble_ledger.core.remedies.prediction.shapes import Shapes
from humble_ledger.core.remedies.prediction.shares import Shares
from humble_ledger.core.schema.containment import inverted_class
from humble_ledger.core.schema.facts import TableFacts
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.schema.operator_classes import PARTS_OF_TEXTS
from humble_ledger.core.statements.conditions import (
    Predicate,
    PredicateKind,
    Wrapping,
)
from humble_ledger.core.statements.parting import literals_of

WAY = "formula"
_TRANSPARENT = (Operation.HASH, Operation.MATERIALIZE, Operation.MEMOIZE, Operation.SORT)
_LITTLE = 0.999  # of the cost that is left: a replacement must at least save so much


@dataclass(frozen=True, slots=True)
class _Route:
    """One way an index could serve: the step it replaces, by what, and its name."""

    step: Node
    by: Replacement
    name: str
    designs: tuple[IndexDesign, ...] = ()


@dataclass(slots=True)
class FormulaPredictor:
    """Predictions for one server; see `prediction.contract.Predictor`."""

    costs: CostModel
    oracle: SelectivityEstimator
    way: str = WAY
    _shares: Shares = field(init=False)
    _shapes: Shapes = field(init=False)

    def __post_init__(self) -> None:
        """Remember what was asked for: nothing yet."""
        self._shares = Shares(self.oracle)
        self._shapes = Shapes(self.costs, self.oracle, self._shares)

    @property
    def plans_asked(self) -> int:
        """None: no plan is made for a formula."""
        return 0

    @property
    def cautions(self) -> Sequence[str]:
        """Nothing beyond what each prediction says itself."""
        return ()

    def outlook(self, asked: Asked, designs: Sequence[IndexDesign]) -> WhatIfCost:
        """What the plan would cost with all these indexes; never more than without them."""
        plan = asked.plan
        before = plan.cost_total or 0.0
        # An index on a partitioned table is one on each of its partitions.
        pairs = [
            (a, d, d if d.table == a.table.name else replace(d, table=a.table.name))
            for a in asked.accesses
            for d in designs
            if d.table in (a.table.name, a.table.root)
        ]
        used: list[Used] = []
        while pairs:
            now = plan.cost_total or 0.0
            best = min(
                (
                    (recost(plan, route.step, route.by), route, access)
                    for access, designs_of_it in _by_access(pairs)
                    for route in self._all_routes(plan, access, designs_of_it)
                ),
                key=lambda found: found[0],
                default=None,
            )
            if best is None or best[0] >= _LITTLE * now:
                break
            _, route, access = best
            plan = recosted(plan, route.step, route.by)
            for design in route.designs:
                caution = caution_of(access, design, guessed=self._guessed(design))
                used.append(Used(design, access.node.name, route.name, caution))
            pairs = [pair for pair in pairs if pair[0].node.no != access.node.no]
        return WhatIfCost(before, min(before, plan.cost_total or 0.0), tuple(used), self.way)

    def _guessed(self, design: IndexDesign) -> bool:
        """Whether it is on an expression of which no sample could be taken."""
        return any(key.expression for key in design.keys) and self._shapes.sampled(design) is None

    def shape(self, design: IndexDesign, table: TableFacts) -> IndexShape:
        """The size the index would have when freshly built."""
        return self._shapes.of(design, table)

    def _all_routes(
        self, plan: Plan, access: Access, designs: Mapping[IndexDesign, IndexDesign]
    ) -> Iterator[_Route]:
        for own, design in designs.items():
            for route in self._routes(plan, access, own):
                yield replace(route, designs=(design,))
        for route in self._each_side(plan, access, list(designs)):
            yield replace(route, designs=tuple(designs[own] for own in route.designs))

    def _each_side(
        self, plan: Plan, access: Access, designs: Sequence[IndexDesign]
    ) -> Iterator[_Route]:
        """The rows of every side of OR by an index of its own: one that is there, or a new one."""
        known = [
            IndexDesign(access.table.name, index.keys, index.included)
            for index in access.table.indexes
            if index.valid and index.method == IndexMethod.SORTED and not index.predicate
        ]
        for sides in asked_apart(access):
            total, used = 0.0, list[IndexDesign]()
            for side in sides:
                total_of_side, design = min(
                    ((self._of_side(side, each), each) for each in (*known, *designs)),
                    key=lambda found: found[0],
                    default=(math.inf, None),
                )
                total += total_of_side
                used += [design] if design in designs and design is not None else []
            if used and math.isfinite(total):
                # All are found before the first row is given.
                by = Replacement(total, total, _never)
                told = tuple(dict.fromkeys(used))
                yield _Route(access.node, by, "index for each side of OR", told)

    def _of_side(self, side: Access, design: IndexDesign) -> float:
        """The cost of one side's rows by an index; endless where it does not lead to them."""
        found = match(side, design, ())
        if design.method != IndexMethod.SORTED or found.missing or found.skipped:
            return math.inf
        if not found.bounded:
            return math.inf
        search, shape = self._search(side, found, design), self.shape(design, side.table)
        costs = self._scans(side.table, shape, search, design, covering=False)
        return min(cost.total for cost in costs)

    def _routes(self, plan: Plan, access: Access, design: IndexDesign) -> Iterator[_Route]:
        if design.method == IndexMethod.SORTED:
            yield from self._alone(plan, access, design)
            yield from self._inner_of_join(plan, access, design)
            yield from self._extreme(plan, access, design)
        elif design.method in (IndexMethod.INVERTED, IndexMethod.BLOCK_RANGES):
            yield from self._bitmap_only(plan, access, design)

    def _alone(self, plan: Plan, access: Access, design: IndexDesign) -> Iterator[_Route]:
        # In a sub-plan, columns from outside are as constants.
        found = self._match(access, design, _from_outside(plan, access))
        covering = _covers(plan, access, design, found)
        part = found.bounded or bool(found.beyond) or bool(design.predicate)
        if found.missing or not (part or access.order or covering):
            return
        # The planner prices one call of a sub-plan without what earlier ones left in the cache.
        search = self._search(access, found, design)
        fixed = found.fixed
        called = _calls_cost(plan, access, search.matched_share * access.table.rows)

        def sorts(sort: Node) -> bool:
            return gives_order(design.keys, fixed, sort, access)

        shape = self.shape(design, access.table)
        for cost in self._scans(access.table, shape, search, design, covering):
            ordered = cost.route != "bitmap scan"
            if part or ordered:
                total = cost.total + called
                by = Replacement(cost.startup, total, sorts if ordered else _never)
                yield _Route(access.node, by, cost.route)

    def _inner_of_join(self, plan: Plan, access: Access, design: IndexDesign) -> Iterator[_Route]:
        for join, other, divisor in _joins_above(plan, access):
            # What a condition of another join compares is not known yet when this one is made.
            known = {alias_of(node) for node in other.walk() if node.relation}
            joins = [p for p in access.joins if p.partner and _is_among(p.partner.alias, known)]
            found = self._match(access, design, joins)
            if not found.joined or found.missing or join.cost is None or other.cost is None:
                continue
            if any(child.role in (Role.SUBPLAN, Role.INIT_PLAN) for child in join.children):
                continue  # what the join itself asks of sub-queries would vanish
            # A side that every process reads in full has all its rows already.
            shared = any(node.parallel_aware for node in other.walk())
            outer_divisor = divisor if shared else 1.0
            loops = max((other.rows_expected or 1.0) * outer_divisor, 1.0)
            search = self._search(access, found, design, loops)
            shape = self.shape(design, access.table)
            covering = _covers(plan, access, design, found)
            inner = min(
                self._scans(access.table, shape, search, design, covering),
                key=lambda cost: cost.total,
            )
            handled = self.costs.per_row((join.rows_expected or 0.0) * divisor)
            outer = other.cost.total * outer_divisor
            called = _calls_cost(plan, access, search.matched_share * access.table.rows)
            total = outer + loops * (inner.total + called) + handled
            by = Replacement(other.cost.startup + inner.startup, total)
            yield _Route(join, by, f"nested loop with {inner.route}")

    def _extreme(self, plan: Plan, access: Access, design: IndexDesign) -> Iterator[_Route]:
        """The first entry from an end of the index, for each min or max that is asked for."""
        asked = extreme_of(plan, access)
        found = self._match(access, design, ())
        if asked is None or found.missing or found.ranges or found.skipped or found.beyond:
            return
        top, columns = asked
        place = len(found.equal)
        if design.key_columns[place : place + 1] != columns[:1] or len(columns) > 1:
            return
        search = self._search(access, found, design)
        shape = self.shape(design, access.table)
        covering = _covers(plan, access, design, found)
        cost = next(self._scans(access.table, shape, search, design, covering))
        # The part of a whole walk until the first row that meets all conditions.
        rows = (access.node.rows_expected or 1.0) * rows_divided_by(plan, access.node)
        each = cost.startup + (cost.total - cost.startup) / max(1.0, rows)
        total = len(top.output) * (each + self.costs.per_row(1, 1))
        if top.cost is not None:
            yield _Route(top, Replacement(total, total), f"the end of an {cost.route}")

    def _bitmap_only(self, plan: Plan, access: Access, design: IndexDesign) -> Iterator[_Route]:
        """Indexes that lead to sets of pages, not to rows in an order."""
        column = design.keys[0].column
        here = [p for p in access.conditions if p.column and p.column.column == column]
        if design.method == IndexMethod.INVERTED:
            served = [p for p in here if _looked_up(p, design, access.table)]
        else:
            served = [p for p in here if p.searchable]
        if not served:
            return
        rows = self._shares.rows(access.table, access.alias, served)
        share = min(1.0, rows / max(access.table.rows, 1.0))
        others = len(access.conditions) - len(served)
        search = Search(share, share, quals=len(served), filters=others)
        costs, shape = self.costs, self.shape(design, access.table)
        if design.method == IndexMethod.BLOCK_RANGES:
            facts = access.table.columns.get(column)
            correlation = (facts.correlation or 0.0) if facts else 0.0
            cost = costs.block_range_scan(access.table, shape, search, correlation)
        else:
            cost = costs.inverted_scan(access.table, shape, search, _terms(served, design))
        total = cost.total + _calls_cost(plan, access, rows)
        yield _Route(access.node, Replacement(cost.startup, total, _never), cost.route)

    def _match(self, access: Access, design: IndexDesign, joins: Sequence[Predicate]) -> Match:
        """What the index serves; with gaps in front only where the server can skip them."""
        found = match(access, design, joins)
        if not found.skipped:
            return found
        searches = self._searches(access, found)
        pages = self.shape(design, access.table).pages
        able = self.costs.skips_leading_columns
        return found if able and searches is not None and searches <= pages else found.unskipped

    def _searches(self, access: Access, found: Match) -> float | None:
        """How often the index is searched from its root; None when that is unknown."""
        searches = float(max([_list_length(p) for p in found.equal] or [1]))
        for name in found.skipped:
            column = access.table.columns.get(name)
            distinct = column.distinct_values(access.table.rows) if column else None
            if distinct is None:
                return None
            searches *= distinct
        return searches

    def _search(
        self, access: Access, found: Match, design: IndexDesign, loops: float = 1.0
    ) -> Search:
        share = self._shares.of(access, found, design)
        part = replace(found, beyond=())
        walked = self._shares.of(access, part, design) if found.beyond else share
        quals = len(found.equal) + len(found.ranges) + len(found.joined) + len(found.beyond)
        others = len(access.conditions) - len(found.constants)
        patterns = sum(p.kind is PredicateKind.PATTERN for p in found.ranges)
        return Search(
            walked,
            share,
            quals=quals + patterns,  # a beginning is a lower and an upper bound
            filters=max(0, others + patterns),
            searches=round(self._searches(access, found) or 1.0),
            loops=loops,
            begins_equal=bool(found.equal or found.joined),
        )

    def _scans(
        self,
        table: TableFacts,
        shape: IndexShape,
        search: Search,
        design: IndexDesign,
        covering: bool,
    ) -> Iterator[ScanCost]:
        leading = table.columns.get(design.keys[0].column)
        correlation = self.costs.correlation(leading, len(design.keys))
        yield self.costs.index_scan(table, shape, search, correlation, covering)
        yield self.costs.bitmap_scan(table, shape, search)


def _by_access(
    pairs: Sequence[tuple[Access, IndexDesign, IndexDesign]],
) -> Iterator[tuple[Access, dict[IndexDesign, IndexDesign]]]:
    """Each access with the designs on its table: as it is on this one, and as it was asked for."""
    accesses = {id(access): access for access, _, _ in pairs}
    for key, access in accesses.items():
        yield access, {own: design for one, design, own in pairs if id(one) == key}


def _never(sort: Node) -> bool:
    return False


def _from_outside(plan: Plan, access: Access) -> list[Predicate]:
    """The joins of an access in a sub-plan with what is outside of it: as constants to it."""
    path = path_to(plan.root, access.node)
    tops = [step for step in path if step.role is Role.SUBPLAN]
    if not tops:
        return []
    inside = {alias_of(node) for node in tops[-1].walk() if node.relation}
    return [p for p in access.joins if p.partner and not _is_among(p.partner.alias, inside)]


def _is_among(alias: str, known: Collection[str]) -> bool:
    """Whether a table, or parts of it under numbered aliases, is read under one of these."""
    return alias in known or any(each.startswith(f"{alias}_") for each in known)


def _calls_cost(plan: Plan, access: Access, rows: float) -> float:
    """What the sub-queries in a scan's conditions cost, called for so many rows of the index.

    One that is hashed is computed once, and so is one that depends on nothing outside.
    """
    node = plan.node(access.node.no)
    texts = node.conditions.all()
    total = 0.0
    for child in node.children:
        if child.cost is None or child.role not in (Role.SUBPLAN, Role.INIT_PLAN):
            continue
        hashed = any(f"hashed {child.subplan_name}" in text for text in texts)
        once = hashed or child.role is Role.INIT_PLAN
        total += child.cost.total * (1.0 if once else max(1.0, rows))
    return total


def _joins_above(plan: Plan, access: Access) -> Iterator[tuple[Node, Node, float]]:
    """The join right above an access, its other side, and by what that one's rows are divided."""
    path = path_to(plan.root, access.node)
    for place in range(len(path) - 2, -1, -1):
        node, child = path[place], path[place + 1]
        if node.operation in JOINS:
            others = [c for c in node.children if c.no != child.no]
            if others:
                other = others[0]
                if other.operation in _TRANSPARENT and other.role is Role.INNER:
                    other = other.children[0]
                yield node, other, rows_divided_by(plan, other)
            return
        if node.operation not in (*_TRANSPARENT, Operation.GATHER):
            return


def _covers(plan: Plan, access: Access, design: IndexDesign, found: Match) -> bool:
    """Whether the index holds all columns of the table that the plan needs."""
    wanted = needed_columns(plan, access, {p.sql for p in found.implied})
    above = len(path_to(plan.root, access.node)) > 1
    held = {*design.key_columns, *design.included}
    return wanted <= held and (bool(wanted) or above)


def _looked_up(predicate: Predicate, design: IndexDesign, table: TableFacts) -> bool:
    """Whether an inverted index of this operator class finds what a condition asks for."""
    key = design.keys[0]
    column = table.columns.get(key.column)
    if predicate.negated or column is None:
        return False
    if predicate.kind is PredicateKind.PATTERN:
        return predicate.wrapping is Wrapping.NONE and key.operator_class == PARTS_OF_TEXTS
    return inverted_class(predicate, column) == key.operator_class


def _terms(served: Sequence[Predicate], design: IndexDesign) -> int:
    """How many terms of an inverted index a search looks up."""
    texts = [text for p in served for text in literals_of(p.sql)]
    if design.keys[0].operator_class == PARTS_OF_TEXTS:
        return max(1, sum(max(1, len(text.strip("%")) - 2) for text in texts))
    return max(1, sum(text.count(",") + 1 for text in texts))


def _list_length(predicate: Predicate) -> int:
    if predicate.kind is not PredicateKind.MEMBERSHIP:
        return 1
    return predicate.value.count(",") + 1
