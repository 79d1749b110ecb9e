"""Conditions that come too late: behind a CTE or a sub-query made whole, or behind a join."""

from __future__ import annotations

from collections.abc import Iterable

from humble_ledger.core.messages import message
from humble_ledger.core.plans.model import JOINS, SCANS, Node, Operation, Role
from humble_ledger.core.plans.tables import alias_of, reads_table
from humble_ledger.core.statements.conditions import columns_of, is_bare_column, predicates
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case
from humble_ledger.core.symptoms.model import Cause, Symptom

FEWEST_ROWS = 1_000.0
FEW = 0.1  # of the rows are kept


def whole_ctes(case: Case) -> Iterable[Symptom]:
    """`filter-outside-cte`: a CTE is computed whole, and whoever reads it keeps a few rows."""
    nodes = list(case.plan.nodes())
    for cte in nodes:
        if cte.role is not Role.CTE or cte.never_ran:
            continue
        name = cte.subplan_name.removeprefix("CTE ")
        readers = [n for n in nodes if n.operation is Operation.CTE and n.cte_name == name]
        made = case.rows(cte)
        filtered = readers and all(reader.conditions.filter for reader in readers)
        if not filtered or made < FEWEST_ROWS:
            continue
        kept = sum(case.rows(reader) for reader in readers)
        covers = [n.no for n in cte.walk()] + [reader.no for reader in readers]
        cost_ms, share = case.avoidable_of(covers, max(0.0, 1.0 - kept / made))
        if kept > FEW * made or share < WORTH_A_WORD:
            continue
        filters = list(dict.fromkeys(f for r in readers for f in r.conditions.filter))
        yield Symptom(
            name="filter-outside-cte",
            node=cte.no,
            step=cte.name,
            summary=message(
                "filter-outside-cte",
                measured=case.plan.steps_measured,
                made=made,
                name=name,
                readers=len(readers),
                kept=kept,
            ),
            evidence={"rows_computed": made, "rows_kept": kept, "readers": len(readers)},
            cause=Cause(
                "cte-materialized",
                message("cte-materialized", name=name, conditions=filters),
            ),
            cost_ms=cost_ms,
            cost_share=share,
            covers=tuple(covers),
        )


# Steps that give other rows when a condition was tested before them.
_NEED_ALL = (Operation.DISTINCT, Operation.WINDOW, Operation.LIMIT)


def whole_subqueries(case: Case) -> Iterable[Symptom]:
    """`filter-outside-subquery`: a sub-query is made whole, and few of its rows are kept.

    Told for conditions on columns that the sub-query hands on as they are: what a window or a
    count gives is known behind it alone.
    """
    for node in case.plan.nodes():
        if node.operation is not Operation.SUBQUERY or len(node.inputs) != 1 or node.never_ran:
            continue
        below = node.inputs[0]
        fence, made, kept = _needing_all(below), case.rows(below), case.rows(node)
        found = [p for text in node.conditions.filter for p in predicates(text)]
        handed_on = _handed_on(below)
        outside = all(p.column is not None and p.column.column in handed_on for p in found)
        if fence is None or not found or not outside or made < FEWEST_ROWS or kept > FEW * made:
            continue
        covers = [step.no for step in node.walk()]
        cost_ms, share = case.avoidable_of(covers, 1.0 - kept / made)
        if share < WORTH_A_WORD:
            continue
        yield Symptom(
            name="filter-outside-subquery",
            node=node.no,
            step=node.name,
            summary=message(
                "filter-outside-subquery", measured=case.plan.steps_measured, made=made, kept=kept
            ),
            evidence={"rows_computed": made, "rows_kept": kept},
            cause=Cause(
                "all-rows-needed",
                message(
                    "all-rows-needed",
                    by=fence.operation.value,
                    conditions=list(dict.fromkeys(p.plain for p in found)),
                ),
            ),
            cost_ms=cost_ms,
            cost_share=share,
            covers=tuple(covers),
        )


def _needing_all(top: Node) -> Node | None:
    """The uppermost step that needs all rows of a sub-query; None before a join or a table."""
    step = top
    while step.operation not in _NEED_ALL:
        if len(step.inputs) != 1 or step.operation in SCANS:
            return None
        step = step.inputs[0]
    return step


def _handed_on(step: Node) -> set[str]:
    """The columns that a step hands on as they are in a table."""
    found = (columns_of(text) for text in step.output if is_bare_column(text))
    return {ref.column for refs in found for ref in refs}


def joined_choices(case: Case) -> Iterable[Symptom]:
    """`late-join-filter`: rows are joined, and thrown away by OR over columns of both sides."""
    for node in case.plan.nodes():
        if node.operation not in JOINS or node.never_ran:
            continue
        names = {alias_of(each) for each in node.walk() if reads_table(each)}
        texts = (*node.conditions.join, *node.conditions.filter)
        found = [p for text in texts for p in predicates(text) if p.choices]
        across = [p for p in found if len({c.alias for c in p.choices} & names) > 1]
        scans = [n for n in node.walk() if n.operation in SCANS]
        if not across or not scans:
            continue
        made, kept = max(_in_all(case, scan) for scan in scans), case.rows(node)
        if made < FEWEST_ROWS or kept > FEW * made:
            continue
        covers = [each.no for each in node.walk()]
        cost_ms, share = case.avoidable_of(covers, 1.0 - kept / made)
        if share < WORTH_A_WORD:
            continue
        columns = list(dict.fromkeys(f"{c.alias}.{c.column}" for c in across[0].choices))
        yield Symptom(
            name="late-join-filter",
            node=node.no,
            step=node.name,
            summary=message(
                "late-join-filter", measured=case.plan.steps_measured, made=made, kept=kept
            ),
            evidence={"rows_joined": made, "rows_kept": kept},
            cause=Cause(
                "or-over-joined-tables",
                message("or-over-joined-tables", columns=columns),
            ),
            cost_ms=cost_ms,
            cost_share=share,
            covers=tuple(covers),
        )


def _in_all(case: Case, scan: Node) -> float:
    discarded = (scan.discarded.by_filter or 0.0) * (scan.loops or 0.0)
    return case.rows(scan) + discarded
