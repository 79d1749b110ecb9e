"""The cost of a whole plan when one of its steps is replaced by something cheaper.

Only the steps above the replaced one change: each keeps its self cost and takes the new cost
below it. Gathering steps go, because an index scan of few rows needs no workers, and what
lay below them then does all the work itself; a sort goes when the new route delivers its
order; a limit takes its part of what is below.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from humble_ledger.core.plans.arithmetic import expected_calls
from humble_ledger.core.plans.model import Cost, Node, Operation, Plan, Role
from humble_ledger.core.plans.paths import path_to, processes_expected


@dataclass(frozen=True, slots=True)
class Replacement:
    """The new cost of the replaced step, and whether it delivers a sort's order."""

    startup: float
    total: float
    sorts: Callable[[Node], bool] = lambda _: False


@dataclass(frozen=True, slots=True)
class _Costs:
    startup: float
    total: float
    ordered: bool


def recost(plan: Plan, replaced: Node, by: Replacement) -> float:
    """The predicted cost of the plan with this step replaced."""
    return recosted(plan, replaced, by).cost_total or 0.0


def recosted(plan: Plan, replaced: Node, by: Replacement) -> Plan:
    """The plan with this step replaced, and what that does to the costs above it.

    Its steps keep their numbers, so that another one may be replaced in turn.
    """
    path = path_to(plan.root, replaced)
    divisors = _divisors(path)
    now = _Costs(by.startup, by.total, True)
    changed = _with_cost(path[-1], now, divisors[-1])
    for place in range(len(path) - 2, -1, -1):
        node = path[place]
        now = _step(node, path[place + 1], now, by, divisors[place])
        # What lay beside it below a gathering step that is gone does all its work itself.
        children = tuple(
            changed if child.no == changed.no else _undivided(child, divisors[place + 1])
            for child in node.children
        )
        changed = replace(_with_cost(node, now, divisors[place]), children=children)
    return replace(plan, root=changed)


def _with_cost(node: Node, now: _Costs, divisor: float) -> Node:
    rows = node.rows_expected
    return replace(
        node,
        cost=Cost(now.startup, now.total),
        rows_expected=rows * divisor if rows is not None else None,
        processes=None if node.operation is Operation.GATHER else node.processes,
    )


def _undivided(node: Node, divisor: float) -> Node:
    if divisor == 1.0 or node.cost is None:
        return node
    run = (node.cost.total - node.cost.startup) * divisor
    return replace(
        node,
        cost=Cost(node.cost.startup, node.cost.startup + run),
        rows_expected=(node.rows_expected or 0.0) * divisor,
        children=tuple(_undivided(child, divisor) for child in node.children),
    )


def _divisors(path: list[Node]) -> list[float]:
    divisors, now = [], 1.0
    for node in path:
        divisors.append(now)
        if node.operation is Operation.GATHER:
            now *= processes_expected(node)
    return divisors


def _step(node: Node, child: Node, now: _Costs, by: Replacement, divisor: float) -> _Costs:
    assert node.cost is not None and child.cost is not None
    if node.operation is Operation.GATHER:
        return now
    own = max(node.cost.total - child.cost.total, 0.0) * divisor
    if node.operation in (Operation.SORT, Operation.INCREMENTAL_SORT):
        if now.ordered and by.sorts(node):
            return now
        return _Costs(now.total + own, now.total + own, False)
    if node.operation is Operation.LIMIT:
        return _limited(node, child, now)
    if node.operation is Operation.NESTED_LOOP and child.role is Role.INNER:
        # The inner side is read again for each outer row; keep what else the join costs.
        outer = next((c for c in node.children if c.role is Role.OUTER), child)
        loops = max(outer.rows_expected or 1.0, 1.0)
        if child.operation is Operation.MATERIALIZE:
            loops = 1.0
        rest = max(node.cost.total - child.cost.total * loops, 0.0)
        return _Costs(now.startup, rest + now.total * loops, False)
    if child.role is Role.SUBPLAN:
        most = round((node.cost.total / child.cost.total) if child.cost.total else 1.0)
        loops = max(1.0, min(most, expected_calls(node, child)))
        rest = max(node.cost.total - child.cost.total * loops, 0.0)
        return _Costs(node.cost.startup, rest + now.total * loops, False)
    startup_gap = max(node.cost.startup - child.cost.startup, 0.0)
    keeps_order = node.operation not in (Operation.HASH, Operation.HASH_JOIN, Operation.APPEND)
    if node.operation is Operation.AGGREGATE and node.by_hash:
        keeps_order = False
    return _Costs(now.startup + startup_gap, now.total + own, now.ordered and keeps_order)


def _limited(node: Node, child: Node, now: _Costs) -> _Costs:
    """The part of its input that a limit reads (its offset too) shows in the costs."""
    assert node.cost is not None and child.cost is not None
    run = child.cost.total - child.cost.startup
    # Rows that are skipped show in the costs alone; costs that hardly grow, as those of a sort
    # of few rows, are printed too coarsely to tell.
    part = (node.rows_expected or 0.0) / max(child.rows_expected or 1.0, 1.0)
    if run > 0:
        part = max(part, (node.cost.total - child.cost.startup) / run)
    part = min(1.0, part)
    return _Costs(now.startup, now.startup + part * (now.total - now.startup), now.ordered)
