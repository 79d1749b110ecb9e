"""Whether a full scan is right, held against the planner: no index that is not there may beat it.

A rule prices one condition of one scan. What an index would do for the joins above it, only the
planner can tell, on a copy without rows; so it is asked before a scan is called right.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import replace

from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.remedies.candidates.accesses import accesses
from humble_ledger.core.remedies.candidates.registry import candidates
from humble_ledger.core.remedies.candidates.thorough import thorough
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.prediction.contract import Asked
from humble_ledger.core.remedies.prediction.planned import PlannedPredictor
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.symptoms.case import Case
from humble_ledger.core.symptoms.in_plans.scans import RIGHT
from humble_ledger.core.symptoms.model import Cause, Symptom
from humble_ledger.errors import HumbleError
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.reading.abilities import abilities
from humble_ledger.workflow.reading.subjects import Subject
from humble_ledger.workflow.supposing.predictors import predictor_of
from humble_ledger.workflow.workspace import Workspace

CLEARLY = 0.8  # of the plan's cost: an index that leaves less makes the scan wrong


def held_against_planner(
    workspace: Workspace,
    subject: Subject,
    entry: PlanEntry,
    case: Case,
    found: Sequence[Symptom],
    progress: Progress,
) -> list[Symptom]:
    """The symptoms; a scan that an index would make clearly cheaper is no longer called right."""
    right = [s for s in found if s.name == RIGHT]
    if not right or not entry.statement:
        return list(found)
    progress("asking the planner whether an index would beat the full scans")
    predictor, _ = predictor_of(workspace, progress)
    if not isinstance(predictor, PlannedPredictor):
        return list(found)
    plan, tables = entry.plan, case.tables
    statement = Statement(entry.statement, entry.parameters)
    asked = Asked(statement, plan, tuple(accesses(plan, tables)))
    try:
        some = [
            *candidates(plan, tables, abilities(workspace, subject, entry)),
            *thorough(plan, tables),
        ]
    except HumbleError:
        return list(found)
    cost, used = predictor.with_all_of(asked, some)
    now = plan.cost_total or 0.0
    if cost is None or cost >= CLEARLY * now:
        return list(found)
    scanned = {node.no: TableName(node.schema, node.relation) for node in plan.nodes()}
    return [
        _avoidable(s, scanned[s.node], used, now, cost, entry)
        if s in right and any(d.table == scanned[s.node] for d in used)
        else s
        for s in found
    ]


def _avoidable(
    symptom: Symptom,
    table: TableName,
    used: Collection[IndexDesign],
    now: float,
    cost: float,
    entry: PlanEntry,
) -> Symptom:
    mine = [d.words for d in used if d.table == table]
    others = [d.words for d in used if d.table != table]
    beside = f", beside {' and '.join(others)}" if others else ""
    return replace(
        symptom,
        name="full-scan-avoidable",
        summary=(
            f"all rows of {table} are read; with an index the plan would cost {cost:,.0f} in place "
            f"of {now:,.0f} (predicted by the planner)"
        ),
        evidence={**symptom.evidence, "cost_now": now, "cost_predicted": round(cost, 2)},
        cause=Cause(
            "no-index",
            f"the planner would take {' and '.join(mine)}{beside}; what is worth "
            f"building:  humble propose {entry.query or 'SQL'}",
        ),
        cost_share=1.0 - cost / now,
        harmless=False,
    )
