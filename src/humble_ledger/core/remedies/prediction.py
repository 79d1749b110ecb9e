"""The formula way of predicting: what would this plan cost if that index existed?

Selectivities come from the target's own planner (`RowOracle`, answered with EXPLAIN), the
rest from its published formulas. Two routes are priced: reading the table alone through the
index (with or without its order), and looking rows up through it once per row of the other
side of a join. The cheapest wins. Whole-plan effects beyond that (another join order) are
out of the formula's reach; such a prediction is rather too high than too low.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Protocol

from humble_ledger.core.plans.model import JOINS, Node, Operation, Plan, Role
from humble_ledger.core.plans.paths import path_to, rows_divided_by
from humble_ledger.core.remedies.btree import CostModel, IndexShape, ScanCost, Search, index_shape
from humble_ledger.core.remedies.candidates import Access, Candidate, needed_columns
from humble_ledger.core.remedies.model import Prediction
from humble_ledger.core.remedies.recosting import Replacement, recost
from humble_ledger.core.schema.facts import IndexKey, ServerFacts, TableFacts, TableName
from humble_ledger.core.statements.conditions import Predicate, PredicateKind

WAY = "formula"
_TRANSPARENT = (Operation.HASH, Operation.MATERIALIZE, Operation.MEMOIZE, Operation.SORT)


class RowOracle(Protocol):
    """The target's planner, asked for row estimates."""

    def rows_matching(self, table: TableName, alias: str, conditions: Sequence[str]) -> float:
        """Rows that meet all these conditions."""
        ...

    def rows_per_value(self, table: TableName, columns: Sequence[str]) -> float:
        """Rows that equal one unknown value per column."""
        ...


@dataclass(frozen=True, slots=True)
class _Match:
    """Which predicates of an access an index serves, in the order of its keys."""

    equal: tuple[Predicate, ...]
    ranges: tuple[Predicate, ...]
    joined: tuple[str, ...]

    @property
    def constants(self) -> list[str]:
        return [p.sql for p in (*self.equal, *self.ranges)]


@dataclass(frozen=True, slots=True)
class FormulaPredictor:
    """Predictions for one server, with selectivities asked of its planner."""

    server: ServerFacts
    oracle: RowOracle

    def predict(self, query: str, plan: Plan, candidate: Candidate) -> Prediction:
        """The cost of the plan with this index, at most what it costs now."""
        before = plan.cost_total or 0.0
        options = list(self._options(plan, candidate))
        step = candidate.access.node.name
        best = min(options, key=lambda option: option[0], default=(before, ""))
        if best[0] >= before:
            return Prediction(query, before, before, WAY, step, "")
        return Prediction(query, before, best[0], WAY, step, best[1], _caution(candidate.access))

    def shape(self, candidate: Candidate) -> IndexShape:
        """The size the index would have."""
        table = candidate.access.table
        columns = [
            table.columns[key.column]
            for key in candidate.design.keys
            if key.column in table.columns
        ]
        included = [table.columns[name] for name in candidate.design.included]
        return index_shape(table, columns, included)

    def _options(self, plan: Plan, candidate: Candidate) -> Iterator[tuple[float, str]]:
        yield from self._alone(plan, candidate)
        yield from self._inner_of_join(plan, candidate)

    def _alone(self, plan: Plan, candidate: Candidate) -> Iterator[tuple[float, str]]:
        access, keys = candidate.access, candidate.design.keys
        called = _within_subplan(plan, access.node)
        match = _match(access, keys, joins=access.joins if called else ())
        bounded = bool(match.equal or match.ranges or match.joined)
        if not bounded and not access.order:
            return
        # The planner prices one call of a sub-plan without what earlier ones left in the cache.
        search = self._search(access, match)
        fixed = {p.column.column for p in match.equal if p.column and p.kind is _EQ}

        def sorts(sort: Node) -> bool:
            return gives_order(keys, fixed, sort, access)

        shape = self.shape(candidate)
        covering = _covers(plan, candidate)
        for cost in self._scans(access.table, shape, search, keys, covering):
            ordered = cost.route != "bitmap scan"
            if bounded or ordered:
                by = Replacement(cost.startup, cost.total, sorts if ordered else _never)
                yield recost(plan, access.node, by), cost.route

    def _inner_of_join(self, plan: Plan, candidate: Candidate) -> Iterator[tuple[float, str]]:
        access = candidate.access
        match = _match(access, candidate.design.keys, joins=access.joins)
        if not match.joined:
            return
        for join, other, divisor in _joins_above(plan, access):
            if join.cost is None or other.cost is None:
                continue
            loops = max((other.rows_expected or 1.0) * divisor, 1.0)
            search = self._search(access, match, loops)
            shape = self.shape(candidate)
            inner = min(
                self._scans(access.table, shape, search, candidate.design.keys, False),
                key=lambda cost: cost.total,
            )
            handled = CostModel(self.server).per_row((join.rows_expected or 0.0) * divisor)
            outer = other.cost.total * divisor
            total = outer + loops * inner.total + handled
            by = Replacement(other.cost.startup + inner.startup, total)
            yield recost(plan, join, by), f"nested loop with {inner.route}"

    def _search(self, access: Access, match: _Match, loops: float = 1.0) -> Search:
        table, rows = access.table, max(access.table.rows, 1.0)
        share = 1.0
        if match.constants:
            share = self.oracle.rows_matching(table.name, access.alias, match.constants) / rows
        if match.joined:
            share *= self.oracle.rows_per_value(table.name, match.joined) / rows
        share = min(1.0, share)
        quals = len(match.equal) + len(match.ranges) + len(match.joined)
        conditions = len(access.equalities) + len(access.ranges) + len(access.others)
        return Search(
            share,
            share,
            quals=quals,
            filters=max(0, conditions + len(match.joined) - quals),
            searches=max([_list_length(p) for p in match.equal] or [1]),
            loops=loops,
        )

    def _scans(
        self,
        table: TableFacts,
        shape: IndexShape,
        search: Search,
        keys: Sequence[IndexKey],
        covering: bool,
    ) -> Iterator[ScanCost]:
        costs = CostModel(self.server)
        leading = table.columns.get(keys[0].column)
        correlation = (leading.correlation or 0.0) if leading else 0.0
        if len(keys) > 1:
            correlation *= 0.75  # btcostestimate's discount for several keys
        yield costs.index_scan(table, shape, search, correlation, covering)
        yield costs.bitmap_scan(table, shape, search)


_EQ = PredicateKind.EQUALITY


def _never(sort: Node) -> bool:
    return False


def _within_subplan(plan: Plan, node: Node) -> bool:
    """Whether a step stands in a sub-plan, where columns from outside are as constants."""
    return any(step.role is Role.SUBPLAN for step in path_to(plan.root, node))


def gives_order(keys: Sequence[IndexKey], fixed: set[str], sort: Node, access: Access) -> bool:
    """Whether an index delivers a sort's order, forwards or backwards.

    Columns fixed to one value may stand anywhere.
    """
    if not access.order or len(access.order) != len(sort.sort_keys):
        return False
    wanted = [key for key in access.order if key.column not in fixed]
    offered = [key for key in keys if key.column not in fixed][: len(wanted)]
    if [k.column for k in wanted] != [k.column for k in offered]:
        return False
    turned = {
        (w.descending != o.descending, w.nulls_first != o.nulls_first)
        for w, o in zip(wanted, offered, strict=True)
    }
    return turned in ({(False, False)}, {(True, True)}, set())


def _match(access: Access, keys: Sequence[IndexKey], joins: Sequence[Predicate]) -> _Match:
    """Equalities as far as they lead, then one column of ranges."""
    equal: list[Predicate] = []
    joined: list[str] = []
    for key in keys:
        here = [p for p in access.equalities if p.column and p.column.column == key.column]
        if here:
            equal.append(here[0])
            continue
        if any(p.column and p.column.column == key.column for p in joins):
            joined.append(key.column)
            continue
        ranges = tuple(p for p in access.ranges if p.column and p.column.column == key.column)
        return _Match(tuple(equal), ranges, tuple(joined))
    return _Match(tuple(equal), (), tuple(joined))


def _joins_above(plan: Plan, access: Access) -> Iterator[tuple[Node, Node, float]]:
    """The join right above an access, its other side, and by what the rows are divided."""
    path = path_to(plan.root, access.node)
    divisor = rows_divided_by(plan, access.node)
    for place in range(len(path) - 2, -1, -1):
        node, child = path[place], path[place + 1]
        if node.operation in JOINS:
            others = [c for c in node.children if c.no != child.no]
            if others:
                other = others[0]
                if other.operation in _TRANSPARENT and other.role is Role.INNER:
                    other = other.children[0]
                yield node, other, divisor
            return
        if node.operation not in (*_TRANSPARENT, Operation.GATHER):
            return


def _covers(plan: Plan, candidate: Candidate) -> bool:
    """Whether the index holds all columns of the table that the plan needs."""
    access, design = candidate.access, candidate.design
    wanted = needed_columns(plan, access)
    above = len(path_to(plan.root, access.node)) > 1
    return wanted <= {*design.key_columns, *design.included} and (bool(wanted) or above)


def _caution(access: Access) -> str:
    """What may make the prediction wrong, in words; mostly nothing."""
    newest = any(p.operator in (">", ">=") for p in access.ranges)
    if newest and access.table.changes_since_analyze:
        return (
            "the range may reach past the statistics; with the index the server would see the "
            "true end, and its cost may be higher"
        )
    return ""


def _list_length(predicate: Predicate) -> int:
    if predicate.kind is not PredicateKind.MEMBERSHIP:
        return 1
    return predicate.value.count(",") + 1
