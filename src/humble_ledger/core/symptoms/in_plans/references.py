"""Deletes that look through a table which refers to theirs, a whole scan for each row.

Few plans show it: the server checks foreign keys behind the statement. So it is told from the
schema, and before anybody has run the statement.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from humble_ledger.core.messages import message
from humble_ledger.core.plans.model import Node, Operation, Role
from humble_ledger.core.schema.facts import ForeignKey, TableFacts, TableName, indexed_reference
from humble_ledger.core.statements.conditions import columns_of
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case
from humble_ledger.core.symptoms.model import Cause, Symptom


@dataclass(frozen=True, slots=True)
class _Reference:
    """A table that is looked through, by which key, and the steps that do it where they show."""

    table: TableFacts
    key: ForeignKey
    rows: float
    scans: float
    shown: Sequence[Node]


def unindexed_references(case: Case) -> Iterable[Symptom]:
    """`foreign-key-without-index`: each row to be deleted is looked for in another table."""
    for node in case.plan.nodes():
        if node.operation is not Operation.MODIFY or not node.label.lower().startswith("delete"):
            continue
        found = list(_references(case, node))
        for each in found:
            if each.shown:
                yield _symptom(case, node, [each])
        # Those that no step stands for are one symptom of the step that deletes.
        hidden = [each for each in found if not each.shown]
        if hidden:
            yield _symptom(case, node, hidden)


def _references(case: Case, node: Node) -> Iterable[_Reference]:
    rows = _deleted(case, node)
    for other, key in case.planner.referring(TableName(node.schema, node.relation)) or ():
        if other.is_small or indexed_reference(other, key) or rows <= 0:
            continue
        scans = rows * case.costs.full_scan(other, len(key.columns))
        shown = _shown(node, other, key.columns)
        share = scans / (scans + (case.plan.cost_total or 0.0))
        if shown:
            _, share = case.avoidable_of([step.no for step in shown], 1.0)
        if share >= WORTH_A_WORD:
            yield _Reference(other, key, rows, scans, shown)


def _symptom(case: Case, node: Node, found: Sequence[_Reference]) -> Symptom:
    rows = found[0].rows
    at = found[0].shown[0] if found[0].shown else node
    covers = [step.no for each in found for step in each.shown]
    cost_ms, share = case.avoidable_of(covers, 1.0) if covers else (None, None)
    names = {each.key.name for each in found} - {""}
    took = sum(
        t.time_ms or 0.0 for t in case.plan.triggers if any(name in t.name for name in names)
    )
    refer = [
        message(
            "refers-without-index",
            table=each.table.name,
            columns=each.key.columns,
            refers_to=each.key.refers_to,
        )
        for each in found
    ]
    return Symptom(
        name="foreign-key-without-index",
        node=at.no,
        step=at.name,
        summary=message(
            "deletes-look-for-references",
            rows=rows,
            tables=[each.table.name for each in found],
            table_rows=[each.table.rows for each in found],
        ),
        evidence={
            "rows_deleted": rows,
            "table_pages": sum(each.table.pages for each in found),
            "scans_cost_predicted": round(sum(each.scans for each in found), 2),
            "constraint": ", ".join(each.key.name for each in found),
            "trigger_ms": took or None,
        },
        cause=Cause(
            "no-index", message("references-without-index", references=refer, shown=bool(covers))
        ),
        cost_ms=took or cost_ms,
        cost_share=share,
        covers=tuple(covers),
    )


def _shown(node: Node, other: TableFacts, columns: Sequence[str]) -> list[Node]:
    """The steps that look for each row, in a plan that has them."""
    return [
        step
        for child in node.children
        if child.role is Role.SUBPLAN
        for step in child.walk()
        if step.operation is Operation.FULL_SCAN
        and step.relation == other.name.name
        and {ref.column for text in step.conditions.filter for ref in columns_of(text)}
        == set(columns)
    ]


def _deleted(case: Case, node: Node) -> float:
    """Rows that go: what comes to the step that deletes, as it gives none itself."""
    return sum(case.rows(child) for child in node.inputs[:1])
