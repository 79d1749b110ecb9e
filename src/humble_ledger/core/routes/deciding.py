"""What decides between two ways to run a statement, and where the other would begin to win.

Two figures decide most choices: the share of a table's rows that match (full scan or index),
and the number of rows that are looked up one by one (nested loop or another join). Each is
moved, by the cost model, until both ways cost the same: that is the break-even.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

from humble_ledger.core.costs.contract import CostModel
from humble_ledger.core.costs.model import IndexShape, Search
from humble_ledger.core.plans.comparison import Change, StepPair, compare
from humble_ledger.core.plans.model import JOINS, SCANS, Node, Operation, Plan, Role
from humble_ledger.core.plans.paths import rows_divided_by
from humble_ledger.core.schema.facts import IndexFacts, TableFacts, TableName

_BY_INDEX = (Operation.INDEX_SCAN, Operation.INDEX_ONLY_SCAN, Operation.BITMAP_SCAN)
_KEPT_IN_MEMORY = (Operation.MATERIALIZE, Operation.MEMOIZE)


class Decisive(StrEnum):
    """What tips the scales."""

    SHARE = "share of the rows that match"
    LOOKUPS = "number of lookups"
    SUM = "sum of the steps"


@dataclass(frozen=True, slots=True)
class Decision:
    """Why the first way is cheaper than the other, by the server's estimates.

    ``expected`` is the deciding figure as the planner sees it, ``break_even`` where both ways
    would cost the same (computed; None when the model does not tell). ``other_wins_below``
    tells on which side of it the other way is cheaper. ``table`` and ``index`` name what is
    read or looked up; ``route`` is the other way's place among all ways, from 1.
    """

    by: Decisive
    route: int
    chosen_cost: float
    other_cost: float
    table: str = ""
    index: str = ""
    expected: float | None = None
    break_even: float | None = None
    other_wins_below: bool = False


def deciding(
    ways: Sequence[Plan], tables: Mapping[TableName, TableFacts], costs: CostModel
) -> Decision | None:
    """What decides for the first of several ways; None when there is no other.

    Told of the cheapest other way for which a single figure decides, else of the next one.
    """
    told = [
        replace(decide(ways[0], other, tables, costs), route=place)
        for place, other in enumerate(ways[1:], 2)
    ]
    single = (each for each in told if each.by is not Decisive.SUM)
    return next(single, told[0] if told else None)


def decide(
    chosen: Plan, other: Plan, tables: Mapping[TableName, TableFacts], costs: CostModel
) -> Decision:
    """What decides between the server's choice and another way."""
    replaced = [p for p in compare(chosen, other).pairs if p.change is Change.REPLACED]
    joins = [p for p in replaced if p.before and p.before.operation in JOINS]
    scans = [p for p in replaced if p.before and p.before.operation in SCANS]
    if joins:
        found = _by_lookups(chosen, other, joins[0])
    elif scans:
        found = _by_share(chosen, other, scans[0], tables, costs)
    else:
        found = None
    return found or Decision(Decisive.SUM, 2, chosen.cost_total or 0.0, other.cost_total or 0.0)


def _by_share(
    chosen: Plan,
    other: Plan,
    pair: StepPair,
    tables: Mapping[TableName, TableFacts],
    costs: CostModel,
) -> Decision | None:
    """Full scan against index: the share of rows at which both plans cost the same."""
    assert pair.before is not None and pair.after is not None
    sides = ((chosen, pair.before), (other, pair.after))
    indexed = next(((p, n) for p, n in sides if n.operation in _BY_INDEX), None)
    scanned = next(((p, n) for p, n in sides if n.operation is Operation.FULL_SCAN), None)
    if indexed is None or scanned is None:
        return None
    plan, node = indexed
    if not any(each.conditions.search for each in node.walk()):
        return None  # it reads the whole index, for its order
    table = tables.get(TableName(node.schema, node.relation))
    names = [each.index for each in node.walk() if each.index]
    index = table.index(names[0]) if table is not None and len(names) == 1 else None
    if table is None or index is None or not table.rows or node.cost is None:
        return None
    entries = _entries(node)
    price = _price(table, index, node, costs)
    share = min(1.0, entries / table.rows)
    even = None
    if price(share) > 0:
        # The formula, led through the planner's own figure for this very step.
        scale = node.cost.total / price(share)
        fixed = (plan.cost_total or 0.0) - node.cost.total
        target = (scanned[0].cost_total or 0.0) - fixed
        even = _bisected(lambda s: price(s) * scale, target)
    return Decision(
        Decisive.SHARE,
        2,
        chosen.cost_total or 0.0,
        other.cost_total or 0.0,
        str(table.name),
        index.name,
        share,
        even,
        other_wins_below=plan is other,
    )


def _entries(node: Node) -> float:
    """The index entries that a scan by an index expects to match, in one loop."""
    for each in node.walk():
        if each.operation is Operation.BITMAP_INDEX:
            return each.rows_expected or 0.0
    return node.rows_expected or 0.0


def _price(
    table: TableFacts, index: IndexFacts, node: Node, costs: CostModel
) -> Callable[[float], float]:
    """The cost of a scan by an index as a function of the share of rows that match."""
    shape = IndexShape(max(index.pages, 1), _levels(index.pages), table.rows)
    column = table.columns.get(index.key_columns[0])
    correlation = (column.correlation or 0.0) if column else 0.0
    quals, filters = len(node.conditions.search) or 1, len(node.conditions.filter)

    def price(share: float) -> float:
        search = Search(share, share, quals=quals, filters=filters)
        if node.operation is Operation.BITMAP_SCAN:
            return costs.bitmap_scan(table, shape, search).total
        covering = node.operation is Operation.INDEX_ONLY_SCAN
        return costs.index_scan(table, shape, search, correlation, covering).total

    return price


def _levels(pages: int) -> int:
    """The levels of a b-tree above its leaves, at some 250 entries on a page."""
    levels, below = 0, pages
    while below > 1:
        below, levels = -(-below // 250), levels + 1
    return levels


def _bisected(price: Callable[[float], float], target: float) -> float | None:
    """The share at which a price that rises meets the target; None when it never does."""
    low, high = 0.0, 1.0
    if price(low) >= target or price(high) <= target:
        return None
    for _ in range(40):
        middle = (low + high) / 2
        low, high = (middle, high) if price(middle) < target else (low, middle)
    return low


def _by_lookups(chosen: Plan, other: Plan, pair: StepPair) -> Decision | None:
    """Nested loop against a hash join: the number of lookups at which both cost the same.

    A lookup's cost is what the inner side adds for each row of the outer one; the hash join's
    part for that row is small against it and left out. A merge join's is not: it may stop
    early, too, so for it there is no such figure.
    """
    assert pair.before is not None and pair.after is not None
    sides = ((chosen, pair.before), (other, pair.after))
    looped = next(((p, n) for p, n in sides if n.operation is Operation.NESTED_LOOP), None)
    if looped is None or not any(n.operation is Operation.HASH_JOIN for _, n in sides):
        return None
    plan, node = looped
    outer = next((c for c in node.children if c.role is Role.OUTER), None)
    inner = next((c for c in node.children if c.role is Role.INNER), None)
    if outer is None or inner is None or inner.cost is None or not inner.cost.total:
        return None
    expected = max(outer.rows_expected or 1.0, 1.0)
    each = inner.cost.total
    if inner.operation in _KEPT_IN_MEMORY and node.cost is not None and outer.cost is not None:
        # Mostly answered from memory: what it adds shows in the join alone.
        each = max((node.cost.total - outer.cost.total - each) / expected, 0.0)
    rival = other if plan is chosen else chosen
    gap = (rival.cost_total or 0.0) - (plan.cost_total or 0.0)
    even = expected + gap / each if each else None
    # Below a gather each process looks up its part only.
    parts = rows_divided_by(plan, node)
    looked = next((n for n in inner.walk() if n.relation), inner)
    return Decision(
        Decisive.LOOKUPS,
        2,
        chosen.cost_total or 0.0,
        other.cost_total or 0.0,
        looked.relation or looked.label,
        looked.index,
        expected * parts,
        even * parts if even is not None and even > 1 else None,
        other_wins_below=plan is other,
    )
