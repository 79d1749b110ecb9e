"""Deletes that look through a table which refers to theirs, a whole scan for each row.

No plan shows it: the server checks foreign keys behind the statement. So it is told from the
schema, and before anybody has run the statement.
"""

from __future__ import annotations

from collections.abc import Iterable

from humble_ledger.core.plans.model import Node, Operation
from humble_ledger.core.schema.facts import TableName, indexed_reference
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case
from humble_ledger.core.symptoms.model import Cause, Symptom

FEWEST_PAGES = 32


def unindexed_references(case: Case) -> Iterable[Symptom]:
    """`foreign-key-without-index`: each row to be deleted is looked for in another table."""
    for node in case.plan.nodes():
        if node.operation is not Operation.MODIFY or not node.label.lower().startswith("delete"):
            continue
        rows = _deleted(case, node)
        for other, key in case.planner.referring(TableName(node.schema, node.relation)) or ():
            if other.pages < FEWEST_PAGES or indexed_reference(other, key) or rows <= 0:
                continue
            scans = rows * case.costs.full_scan(other, len(key.columns))
            share = scans / (scans + (case.plan.cost_total or 0.0))
            if share < WORTH_A_WORD:
                continue
            told = ", ".join(key.columns)
            took = sum(
                t.time_ms or 0.0 for t in case.plan.triggers if key.name and key.name in t.name
            )
            yield Symptom(
                name="foreign-key-without-index",
                node=node.no,
                step=node.name,
                summary=(
                    f"{'the row' if rows <= 1 else f'each of {rows:,.0f} rows'} to be deleted is "
                    f"looked for in {other.name}, through all its {other.rows:,.0f} rows"
                ),
                evidence={
                    "rows_deleted": rows,
                    "table_pages": other.pages,
                    "scans_cost_predicted": round(scans, 2),
                    "constraint": key.name,
                    "trigger_ms": took or None,
                },
                cause=Cause(
                    "no-index",
                    f"{other.name} ({told}) refers to {key.refers_to}, and no index begins with "
                    f"{told}: the plan does not show these scans, the server makes them behind it",
                ),
                cost_ms=took or None,
                cost_share=None,
            )


def _deleted(case: Case, node: Node) -> float:
    """Rows that go: what comes to the step that deletes, as it gives none itself."""
    return sum(case.rows(child) for child in node.children[:1])
