"""`volatile-filter`, `random-order`: what must be computed anew for every single row."""

from __future__ import annotations

from collections.abc import Iterable

from humble_ledger.core.messages import message
from humble_ledger.core.plans.model import SORTS, Node, Operation
from humble_ledger.core.plans.paths import path_to
from humble_ledger.core.statements.conditions import predicates
from humble_ledger.core.statements.plainly import plainly
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case
from humble_ledger.core.symptoms.in_plans.obstacles import called, called_in
from humble_ledger.core.symptoms.model import Cause, Symptom

FEWEST_ROWS = 1_000.0
FEW = 0.1  # of the rows pass


def changing_filters(case: Case) -> Iterable[Symptom]:
    """`volatile-filter`: the server tells which functions are VOLATILE."""
    for node in case.plan.nodes():
        if not node.conditions.filter or node.never_ran:
            continue
        found = _changing(case, node)
        tested = _tested(case, node)
        if found is None or tested < FEWEST_ROWS:
            continue
        function, condition = found
        kept = case.rows(node)
        if kept > FEW * tested:
            continue  # most rows pass: a sample is meant
        cost_ms, share = case.avoidable(node, 1.0 - min(kept / tested, 1.0))
        if share < WORTH_A_WORD:
            continue
        yield Symptom(
            name="volatile-filter",
            node=node.no,
            step=node.name,
            summary=message(
                "volatile-filter",
                measured=case.plan.steps_measured,
                function=function,
                tested=tested,
                kept=kept,
            ),
            evidence={"rows_tested": tested, "rows_kept": kept, "function": function},
            cause=Cause(
                "volatile-function",
                message("volatile-function", function=function, condition=plainly(condition)),
            ),
            cost_ms=cost_ms,
            cost_share=share,
        )


def random_orders(case: Case) -> Iterable[Symptom]:
    """`random-order`: all rows are given a value by chance, so that a few may come first."""
    for node in case.plan.nodes():
        if node.operation not in SORTS or node.never_ran or not node.sort_keys:
            continue
        names = called_in(node.sort_keys[0])
        changing = (case.planner.volatile_functions(names) or frozenset()) if names else frozenset()
        rows = case.rows(node.inputs[0]) if node.inputs else 0.0
        above = path_to(case.plan.root, node)
        few = any(step.operation is Operation.LIMIT for step in above[:-1])
        if not changing or rows < FEWEST_ROWS or not few:
            continue
        covers = [step.no for step in node.walk()]
        cost_ms, share = case.avoidable_of(covers, 1.0 - min(case.rows(node) / rows, 1.0))
        name = min(changing)
        yield Symptom(
            name="random-order",
            node=node.no,
            step=node.name,
            summary=message(
                "random-order", measured=case.plan.steps_measured, rows=rows, function=name
            ),
            evidence={"rows_sorted": rows, "function": name},
            cause=Cause(
                "order-by-chance",
                message("order-by-chance"),
            ),
            cost_ms=cost_ms,
            cost_share=share,
            covers=tuple(covers),
        )


def _changing(case: Case, node: Node) -> tuple[str, str] | None:
    """The first function of a filter that is declared so, and its condition."""
    parts = [p for text in node.conditions.filter for p in predicates(text)]
    names = {name for part in parts for name in called(part)}
    if not names:
        return None
    changing = case.planner.volatile_functions(names) or frozenset()
    for part in parts:
        for name in sorted(called(part) & changing):
            return name, part.sql
    return None


def _tested(case: Case, node: Node) -> float:
    if node.loops is not None:
        return case.rows(node) + (node.discarded.by_filter or 0.0) * node.loops
    table = case.table_of(node)
    return table.rows if table is not None else 0.0
