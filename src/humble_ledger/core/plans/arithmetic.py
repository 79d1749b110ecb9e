"""What each step takes by itself: self time, self cost, own pages, rows in all.

Servers report each step *with* everything below it, and per loop. This module undoes both.
The rules:

* total time of a step = average per loop × loops. Below a gathering step the loops are spread
  over processes; there *elapsed* time is the average per process and *process* time the sum.
* self time = total − the totals of the children, where a CTE's time is taken from the steps
  that read it, an init-plan's from the step that first needs its value (a gathering step asks for
  the values its workers need before they start), and a sub-plan's from the step that calls it (it
  is a child of that step already).
* a step's inputs took no longer than the step: workers that go on when nobody waits for them any
  more are counted for as long as somebody did. So the self times add up to the plan's.
* self cost is shared out from the root downwards: a child gets its cost times the loops the
  planner expected, but never more than its parent has. So a LIMIT that stops early, or a
  merge join that does not read an input to its end, needs no exception, and the own costs
  always add up to the cost of the plan.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from itertools import pairwise
from math import prod

from humble_ledger.core.plans.model import Node, Operation, Pages, Plan, Role
from humble_ledger.core.plans.paths import path_to

_RETURNS = re.compile(r"returns ((?:\$\d+,?\s*)+)")
_COMPUTING_OF_INPUT = (Operation.AGGREGATE, Operation.WINDOW)
_CHARGED_ELSEWHERE = (Role.INIT_PLAN, Role.CTE)


@dataclass(frozen=True, slots=True)
class StepMetrics:
    """The figures of one step.

    Times in milliseconds, None when the step was not measured: ``total_ms`` and ``self_ms``
    elapsed, ``process_ms`` summed over processes, ``self_share`` of the whole plan's time (of
    its cost where the steps were not measured). ``rows`` and ``rows_discarded`` over all loops.
    """

    self_cost: float
    total_ms: float | None
    self_ms: float | None
    process_ms: float | None
    self_share: float
    rows: float | None
    rows_discarded: float | None
    self_pages: Pages | None
    processes: float


def accounts(plan: Plan) -> dict[int, StepMetrics]:
    """The account of every step, by its number."""
    spread = _processes(plan.root, 1.0, {})
    totals = {n.no: _total_ms(n, spread[n.no]) for n in plan.nodes()}
    own_times = _own_figures(plan, _within_parents(plan.root, totals))
    self_pages = _own_pages(plan)
    own_costs = own_cost_of_steps(plan)
    whole = totals[plan.root.no] or 0.0
    whole_cost = plan.cost_total or 0.0
    by_steps = plan.steps_timed
    result = {}
    for node in plan.nodes():
        self_ms, self_cost = own_times[node.no], own_costs[node.no]
        if plan.measured and not by_steps and len(totals) > 1:
            self_ms = None  # whose time it is nobody knows
        if by_steps:
            share = self_ms / whole if self_ms is not None and whole else 0.0
        else:
            share = self_cost / whole_cost if whole_cost else 0.0
        total = totals[node.no]
        result[node.no] = StepMetrics(
            self_cost=self_cost,
            total_ms=total,
            self_ms=self_ms,
            process_ms=None if total is None else total * spread[node.no],
            self_share=share,
            rows=_in_all(node, node.rows_seen),
            rows_discarded=_in_all(node, node.discarded.total),
            self_pages=self_pages[node.no],
            processes=spread[node.no],
        )
    return result


def own_cost_of_steps(plan: Plan) -> dict[int, float]:
    """The self cost of every step, by number; they add up to the plan's cost."""
    owns: dict[int, float] = {}
    _share_cost(plan.root, plan.cost_total or 0.0, owns)
    return owns


def _in_all(node: Node, per_loop: float | None) -> float | None:
    if per_loop is None or node.loops is None:
        return None
    return per_loop * node.loops


def _processes(node: Node, spread: float, into: dict[int, float]) -> dict[int, float]:
    """Over how many processes the loops of each step are spread.

    A gathering step's child runs once in each process for each loop of the gathering step.
    """
    into[node.no] = spread
    for child in node.children:
        below = spread
        serves_once = child.role in _CHARGED_ELSEWHERE
        # A sub-plan of the gathering step is run by the gathering process alone.
        in_workers = not serves_once and child.role is not Role.SUBPLAN
        if node.operation is Operation.GATHER and in_workers and node.loops and child.loops:
            below = spread * max(child.loops / node.loops, 1.0)
        _processes(child, 1.0 if serves_once else below, into)
    return into


def _total_ms(node: Node, processes: float) -> float | None:
    if node.loops is None:
        return None
    if node.elapsed is None:
        return 0.0 if node.never_ran else None
    return node.elapsed.total_ms * node.loops / processes


def _within_parents(root: Node, totals: Mapping[int, float | None]) -> dict[int, float | None]:
    """The same totals, where inputs that took longer than their step are cut down to it."""
    found: dict[int, float | None] = {}

    def fit(node: Node, part: float) -> None:
        total = totals[node.no]
        found[node.no] = None if total is None else total * part
        inputs = [c for c in node.children if c.role not in _CHARGED_ELSEWHERE]
        below = sum(totals[c.no] or 0.0 for c in inputs)
        cut = min(1.0, total / below) if total is not None and below > 0 else 1.0
        for child in node.children:
            # What serves once is counted within other steps; it is nobody's input.
            fit(child, part * cut if child in inputs else 1.0)

    fit(root, 1.0)
    return found


def _own_figures(plan: Plan, totals: Mapping[int, float | None]) -> dict[int, float | None]:
    """Totals of any kind (time, pages) to what each step has of it by itself."""
    owns: dict[int, float | None] = {}
    for node in plan.nodes():
        total = totals[node.no]
        if total is None:
            owns[node.no] = None
            continue
        below = sum(totals[c.no] or 0.0 for c in node.children if c.role not in _CHARGED_ELSEWHERE)
        owns[node.no] = total - below
    for node in plan.nodes():
        for child in node.children:
            if child.role in _CHARGED_ELSEWHERE:
                _charge(plan, node, child, totals[child.no] or 0.0, owns)
    # What is left below zero is the grain of the clock.
    return {no: None if own is None else max(own, 0.0) for no, own in owns.items()}


def _charge(
    plan: Plan, parent: Node, child: Node, amount: float, owns: dict[int, float | None]
) -> None:
    """Take what a CTE or init-plan took from the steps within whose figures it is counted."""
    for payer in [*_payers(plan, parent, child), parent]:
        purse = owns[payer.no]
        if purse is None or purse <= 0.0:
            continue
        paid = min(purse, amount)
        owns[payer.no] = purse - paid
        amount -= paid
        if amount <= 0.0:
            return


def _payers(plan: Plan, parent: Node, child: Node) -> list[Node]:
    if child.role is Role.CTE:
        name = child.subplan_name.removeprefix("CTE ")
        return [n for n in plan.nodes() if n.operation is Operation.CTE and n.cte_name == name]
    marks = [f"({child.subplan_name})"]
    returns = _RETURNS.search(child.subplan_name)
    if returns:
        marks = [mark.strip() for mark in returns[1].split(",") if mark.strip()]
        marks.append(f"({child.subplan_name.split(' (')[0]})")
    inside = {n.no for n in child.walk()}
    asking = [
        n
        for n in parent.walk()
        if n.no not in inside and not n.never_ran and any(_mentions(n, mark) for mark in marks)
    ]
    gathered = _gathered(parent) if asking else {}
    return list({p.no: p for p in (gathered.get(n.no, n) for n in asking)}.values())


def _gathered(top: Node) -> dict[int, Node]:
    """For each step whose rows are gathered from workers the outermost step that gathers them."""
    found: dict[int, Node] = {}
    for step in top.walk():
        if step.operation is Operation.GATHER and step.no not in found:
            for below in step.walk():
                if below is not step:
                    found.setdefault(below.no, step)
    return found


def _mentions(node: Node, mark: str) -> bool:
    texts = [*node.conditions.all(), *node.sort_keys, *node.group_keys, *node.output]
    return any(_mentions_in(text, mark) for text in texts)


def _mentions_in(text: str, mark: str) -> bool:
    return re.search(re.escape(mark) + r"(?!\d)", text) is not None


def _own_pages(plan: Plan) -> dict[int, Pages | None]:
    parts = {}
    for name in ("cached", "read", "dirtied", "written", "temp_read", "temp_written"):
        totals = {n.no: None if n.pages is None else getattr(n.pages, name) for n in plan.nodes()}
        parts[name] = _own_figures(plan, totals)
    return {
        node.no: None
        if node.pages is None
        else Pages(**{name: int(found[node.no] or 0) for name, found in parts.items()})
        for node in plan.nodes()
    }


def _share_cost(node: Node, budget: float, owns: dict[int, float]) -> None:
    """Give each child its part of ``budget`` and keep the rest."""
    wishes = [_wish(node, child, budget) for child in node.children]
    wanted = sum(wishes)
    scale = min(1.0, budget / wanted) if wanted > 0 else 0.0
    owns[node.no] = max(budget - wanted * scale, 0.0)
    for child, wish in zip(node.children, wishes, strict=True):
        _share_cost(child, wish * scale, owns)


def _wish(parent: Node, child: Node, budget: float) -> float:
    """What a child would take of the parent's budget: its cost × the loops expected of it."""
    if child.cost is None or parent.cost is None or parent.cost.total <= 0:
        return 0.0
    part = budget / parent.cost.total  # below LIMIT or inside a loop: the part that counts
    return child.cost.total * expected_loops(parent, child) * part


def expected_loops(parent: Node, child: Node) -> float:
    """How often the planner expects a step to be run for each run of the step above it."""
    if child.role is Role.SUBPLAN:
        return expected_calls(parent, child)
    if _reads_itself(parent, child):
        return _rounds(parent, child)
    if parent.operation is not Operation.NESTED_LOOP or child.role is not Role.INNER:
        return 1.0
    if child.operation is Operation.MATERIALIZE:
        return 1.0  # read again from memory: that small cost stays with the join
    outer = next((c for c in parent.children if c.role is Role.OUTER), None)
    return max(outer.rows_expected or 1.0, 1.0) if outer else 1.0


def runs_expected(plan: Plan, node: Node) -> float:
    """How often the planner expects a step to be run in all."""
    path = path_to(plan.root, node)
    return prod(expected_loops(parent, child) for parent, child in pairwise(path))


def _reads_itself(union: Node, child: Node) -> bool:
    """Whether an input of a recursion reads what the recursion has found: it is run in rounds."""
    if union.operation is not Operation.SET_OPERATION or not union.subplan_name:
        return False
    mine = {n.cte_name for n in child.walk() if n.operation is Operation.CTE and n.cte_name}
    return any(union.subplan_name.endswith(f" {name}") for name in mine)


def _rounds(union: Node, child: Node) -> float:
    """How many rounds the planner expects: as many as make up the cost of the recursion."""
    if union.cost is None or child.cost is None or child.cost.total <= 0:
        return 1.0
    once = sum(c.cost.total for c in union.children if c is not child and c.cost is not None)
    return max(1.0, (union.cost.total - once) / child.cost.total)


def expected_calls(parent: Node, child: Node) -> float:
    """How often the planner expects a step to call a sub-plan of its own.

    One that a scan tests its rows by is called for each row that is read, and the plan shows only
    how many are left; so it is told from the scan's cost, which next to nothing else adds to. One
    that stands in no condition, but in what the step hands on, is called once for each such row;
    an aggregation may have to for each row that it takes in.
    """
    texts = (*parent.conditions.all(), *parent.output)
    if any(f"hashed {child.subplan_name}" in text for text in texts):
        return 1.0
    kept = parent.rows_expected or 1.0
    testing = [
        c
        for c in parent.children
        if c.role is Role.SUBPLAN
        and any(_mentions_in(text, f"({c.subplan_name})") for text in parent.conditions.filter)
    ]
    if not parent.inputs and child in testing and parent.cost is not None:
        each = sum(c.cost.total for c in testing if c.cost is not None)
        return max(kept, parent.cost.total / each if each > 0 else 1.0)
    called_in = (*parent.conditions.all(), *parent.sort_keys, *parent.group_keys)
    handed_on = any(_mentions_in(text, child.subplan_name) for text in parent.output)
    tests = any(_mentions_in(text, child.subplan_name) for text in called_in)
    if handed_on and not tests and parent.operation not in _COMPUTING_OF_INPUT:
        return max(kept, 1.0)
    return max(kept, *(c.rows_expected or 1.0 for c in parent.inputs), 1.0)
