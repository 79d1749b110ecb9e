"""The steps of a plan as rows of a tree, with all that a reader is shown of each."""

from __future__ import annotations

from dataclasses import dataclass

from humble_ledger.core.estimates.accuracy import row_error
from humble_ledger.core.plans.arithmetic import StepMetrics, accounts
from humble_ledger.core.plans.model import Node, Plan
from humble_ledger.core.statements.plainly import plainly
from humble_ledger.views.numbers import Numbers


@dataclass(frozen=True, slots=True)
class StepRow:
    """One step: ``level`` from 1, shares of the whole plan from 0 to 1, and words ready to show."""

    no: int
    level: int
    name: str
    notes: tuple[str, ...]
    expected: str
    seen: str
    off: str
    self_share: float
    total_share: float
    self_words: str
    total_words: str
    never_ran: bool


def plan_rows(plan: Plan, numbers: Numbers) -> list[StepRow]:
    """Every step in the order of the plan's text."""
    figures = accounts(plan)
    found: list[StepRow] = []

    def add(node: Node, level: int) -> None:
        found.append(_row(plan, node, level, figures[node.no], figures[plan.root.no], numbers))
        for child in node.children:
            add(child, level + 1)

    add(plan.root, 1)
    return found


def _row(
    plan: Plan, node: Node, level: int, own: StepMetrics, whole: StepMetrics, numbers: Numbers
) -> StepRow:
    error = row_error(node)
    if plan.steps_measured:
        all_ms = whole.total_ms or 0.0
        total_share = (own.total_ms or 0.0) / all_ms if all_ms else 0.0
        self_words, total_words = numbers.ms(own.self_ms), numbers.ms(own.total_ms)
    else:
        all_cost = plan.cost_total or 0.0
        total = node.cost.total if node.cost is not None else 0.0
        total_share = total / all_cost if all_cost else 0.0
        self_words, total_words = numbers.figure(own.self_cost), numbers.figure(total)
    expected, seen = node.rows_expected, node.rows_seen
    return StepRow(
        node.no,
        level,
        f"{node.subplan_name}: {node.name}" if node.subplan_name else node.name,
        tuple(_notes(node, own, numbers)),
        numbers.rows(expected),
        "never ran" if node.never_ran and plan.measured else numbers.rows(seen),
        ""
        if error is None or not error.far_off
        else f"{numbers.times(error.factor)} {'more' if error.under else 'fewer'} than expected",
        min(1.0, own.self_share),
        min(1.0, total_share),
        self_words,
        total_words,
        plan.measured and node.never_ran,
    )


def _notes(node: Node, own: StepMetrics, numbers: Numbers) -> list[str]:
    conditions = node.conditions
    told = [f"search: {plainly(each)}" for each in conditions.search]
    told += [f"filter: {plainly(each)}" for each in conditions.filter]
    told += [f"join: {plainly(each)}" for each in conditions.join]
    if node.sort_keys:
        told.append(f"sorts by: {', '.join(plainly(each) for each in node.sort_keys)}")
    if node.group_keys:
        told.append(f"groups by: {', '.join(plainly(each) for each in node.group_keys)}")
    if node.loops is not None and node.loops > 1:
        told.append(f"run {numbers.whole(node.loops)} times, rows are of one run")
    if own.rows_discarded:
        told.append(f"discards {numbers.whole(own.rows_discarded)} rows in all")
    if node.memory is not None and node.memory.spilled_bytes:
        told.append(f"spills {numbers.size(node.memory.spilled_bytes)} to disk")
    if own.self_pages is not None and own.self_pages.touched:
        told.append(f"touches {numbers.count(own.self_pages.touched, 'pages')}")
    if node.processes is not None and node.processes.planned:
        launched = node.processes.launched
        told.append(
            f"{numbers.whole(node.processes.planned)} workers planned"
            + (f", {numbers.whole(launched)} came" if launched is not None else "")
        )
    return told
