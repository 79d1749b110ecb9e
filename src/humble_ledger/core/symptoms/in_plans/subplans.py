"""Sub-queries that the server runs again for each row."""

from __future__ import annotations

from collections.abc import Iterable

from humble_ledger.core.messages import Message, message
from humble_ledger.core.plans.arithmetic import expected_calls
from humble_ledger.core.plans.model import Node, Operation, Role
from humble_ledger.core.plans.tables import alias_of
from humble_ledger.core.statements.conditions import columns_of
from humble_ledger.core.symptoms.case import Case
from humble_ledger.core.symptoms.model import Cause, Symptom

FEWEST_RUNS = 10.0
FEWEST_LOOKED_AT = 20_000.0  # rows, in all runs: fewer take no longer than any join would
WORTH_A_WORD = 0.10  # of the plan's time


def subqueries_per_row(case: Case) -> Iterable[Symptom]:
    """`subquery-per-row`, and `constant-subquery-again` when each run gives the same."""
    plan = case.plan
    for parent in plan.nodes():
        if parent.operation is Operation.MODIFY:
            continue  # what a change sets off for each of its rows cannot be had otherwise
        for child in parent.children:
            if child.role is not Role.SUBPLAN or child.never_ran or _hashed(parent, child):
                continue
            runs = _runs(parent, child)
            covers = [node.no for node in child.walk()]
            if runs < FEWEST_RUNS or runs * _rows_looked_at(case, child) < FEWEST_LOOKED_AT:
                continue
            cost_ms, share = case.avoidable_of(covers, 1.0 - 1.0 / runs)
            if share < WORTH_A_WORD:
                continue
            constant = _constant(child)
            yield Symptom(
                name="constant-subquery-again" if constant else "subquery-per-row",
                node=child.no,
                step=child.name,
                summary=message(
                    "subquery-runs-again",
                    measured=plan.steps_measured,
                    name=child.subplan_name,
                    runs=runs,
                    step=parent.no,
                ),
                evidence={"runs": runs, "rows_of_step": parent.no},
                cause=_read_again(case, child)
                if constant
                else Cause("correlated-subquery", _each_time(child)),
                cost_ms=cost_ms,
                cost_share=share,
                covers=tuple(covers),
            )


def _hashed(parent: Node, child: Node) -> bool:
    """Whether its whole result is made once and then looked up."""
    texts = " ".join((*parent.conditions.all(), *parent.output))
    return f"hashed {child.subplan_name}" in texts


def _rows_looked_at(case: Case, child: Node) -> float:
    """Of all tables, in one run; more than is worth asking when it cannot be told."""
    rows = 0.0
    for node in child.walk():
        if not node.relation:
            continue
        if node.loops:
            rows += (node.rows_seen or 0.0) + (node.discarded.total or 0.0)
        elif node.operation is Operation.FULL_SCAN:
            table = case.table_of(node)
            rows += table.rows if table is not None else FEWEST_LOOKED_AT
        else:  # how many it throws away no estimate tells
            rows += FEWEST_LOOKED_AT if node.conditions.filter else node.rows_expected or 0.0
    return rows


def _constant(child: Node) -> bool:
    """Whether nothing in a sub-query depends on the row outside."""
    inside = {alias_of(node) for node in child.walk() if node.relation or node.alias}
    for node in child.walk():
        texts = (*node.conditions.all(), *node.output, *node.sort_keys, *node.group_keys)
        if any("$" in text for text in texts):
            return False
        if any(ref.alias and ref.alias not in inside for t in texts for ref in columns_of(t)):
            return False
    return bool(inside)


def _read_again(case: Case, child: Node) -> Cause:
    rows = max((n.rows_expected or 0.0) for n in child.walk())
    return Cause(
        "result-looked-through-again",
        message(
            "result-looked-through-again",
            rows=rows,
            limit_bytes=case.hash_memory_bytes,
            setting=case.memory_setting,
        ),
    )


def _runs(parent: Node, child: Node) -> float:
    if child.loops is not None:
        return child.loops
    return expected_calls(parent, child)


def _each_time(child: Node) -> Message:
    scans = [n for n in child.walk() if n.operation is Operation.FULL_SCAN and n.relation]
    return message("each-time-anew", scanned=scans[0].relation if scans else None)
