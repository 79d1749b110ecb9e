"""Whether a full scan is right, held against the planner: nothing that is not there may beat it.

A rule prices one condition of one scan. What an index would do for the joins above it, only the
planner can tell, on a copy without rows, and what the statement would cost if it were written
another way; so it is asked before a scan is called right.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.messages import Message, message
from humble_ledger.core.plans.model import Operation, Plan
from humble_ledger.core.remedies.candidates.accesses import accesses
from humble_ledger.core.remedies.candidates.keys import columns_in, served
from humble_ledger.core.remedies.candidates.registry import candidates
from humble_ledger.core.remedies.candidates.thorough import thorough
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.prediction.contract import Asked
from humble_ledger.core.remedies.prediction.planned import PlannedPredictor
from humble_ledger.core.remedies.rewrites.model import ALWAYS, Rewriting
from humble_ledger.core.remedies.rewrites.registry import rewritings
from humble_ledger.core.schema.facts import IndexKey, TableFacts, TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.symptoms.case import Case
from humble_ledger.core.symptoms.in_plans.partitions import with_wholes
from humble_ledger.core.symptoms.in_plans.scans import RIGHT, UNDECIDED
from humble_ledger.core.symptoms.model import Cause, Symptom
from humble_ledger.errors import HumbleError
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.reading.abilities import abilities
from humble_ledger.workflow.reading.subjects import Subject
from humble_ledger.workflow.supposing.predictors import predictor_of
from humble_ledger.workflow.workspace import Workspace

AVOIDABLE = "full-scan-avoidable"
CLEARLY = 0.8  # of the plan's cost: an index that leaves less makes the scan wrong


def held_against_planner(
    workspace: Workspace,
    subject: Subject,
    entry: PlanEntry,
    case: Case,
    found: Sequence[Symptom],
    progress: Progress,
) -> list[Symptom]:
    """The symptoms; a scan is no longer called right when an index, or another wording of the
    statement, would make the plan clearly cheaper.
    """
    kept = list(found)
    if entry.statement and any(s.name == RIGHT for s in kept):
        kept = _by_indexes(workspace, subject, entry, case, kept, progress)
        if any(s.name == RIGHT for s in kept):
            kept = _by_wording(workspace, entry, case, kept)
    # Nobody says that these are right; only that the planner knows nothing clearly better.
    return [s for s in kept if s.name != RIGHT or s.cause.name != UNDECIDED]


def _by_indexes(
    workspace: Workspace,
    subject: Subject,
    entry: PlanEntry,
    case: Case,
    found: Sequence[Symptom],
    progress: Progress,
) -> list[Symptom]:
    right = [s for s in found if s.name == RIGHT]
    progress("asking the planner whether an index would beat the full scans")
    predictor, _ = predictor_of(workspace, progress)
    plan, tables = entry.plan, case.tables
    if not isinstance(predictor, PlannedPredictor):
        return _unless_joined(plan, tables, found)
    statement = Statement(entry.statement, entry.parameters)
    asked = Asked(statement, plan, tuple(accesses(plan, tables)))
    try:
        means = abilities(workspace, subject, entry)
        some = [
            *candidates(plan, tables, means),
            *thorough(plan, tables, means),
        ]
    except HumbleError:
        return list(found)
    cost, used = predictor.with_all_of(asked, some)
    now = plan.cost_total or 0.0
    if cost is None or cost >= CLEARLY * now:
        return list(found)
    scanned = _scanned(case)
    wholes = {facts.name: facts.root or facts.name for facts in tables.values()}
    taken = {d: wholes.get(d.table, d.table) for d in used}
    spared = [s for s in right if scanned[s.node] in taken.values()]
    return [
        _shared(_avoidable(s, scanned[s.node], taken, now, cost, entry), len(spared))
        if s in spared
        else s
        for s in found
    ]


def _unless_joined(
    plan: Plan, tables: Mapping[TableName, TableFacts], found: Sequence[Symptom]
) -> list[Symptom]:
    """Nobody can be asked what an index on a joined column would do: then nothing is said."""
    open_joins = {
        access.node.no
        for access in accesses(plan, tables)
        if any(
            not served((IndexKey(name),), access.table)
            for name in columns_in((*access.joins, *access.met))
        )
    }
    return [
        replace(s, cause=replace(s.cause, name=UNDECIDED))
        if s.name == RIGHT and s.node in open_joins
        else s
        for s in found
    ]


def _scanned(case: Case) -> Mapping[int, TableName]:
    """The table that each step reads; all partitions of one are read by one step."""
    steps = with_wholes(case).plan.nodes()
    return {node.no: TableName(node.schema, node.relation) for node in steps}


def _shared(symptom: Symptom, count: int) -> Symptom:
    """What several together would save, told as a part of each: it is saved once."""
    share = symptom.cost_share
    return symptom if share is None else replace(symptom, cost_share=share / count)


def _by_wording(
    workspace: Workspace, entry: PlanEntry, case: Case, found: Sequence[Symptom]
) -> list[Symptom]:
    """Held against wordings that always mean the same, or that differ at the very edge only."""
    now = entry.plan.cost_total or 0.0
    scanned = _scanned(case)
    kept = list(found)
    for each in rewritings(entry.statement, case.tables, workspace.engine.dialect):
        if each.question or each.values_from or not (each.always_asked or each.same_when == ALWAYS):
            continue
        try:
            plan = workspace.session.explain(Statement(each.sql, entry.parameters)).plan
        except HumbleError:
            continue
        cost = plan.cost_total
        if cost is None or cost >= CLEARLY * now:
            continue
        scans = [n for n in plan.nodes() if n.operation is Operation.FULL_SCAN]
        read = {TableName(n.schema, n.relation) for n in scans}
        read |= {facts.root for facts in case.tables.values() if facts.root and facts.name in read}
        kept = [
            _worded(s, each, now, cost, entry)
            if s.name == RIGHT and scanned[s.node] not in read
            else s
            for s in kept
        ]
    return kept


def _worded(
    symptom: Symptom, each: Rewriting, now: float, cost: float, entry: PlanEntry
) -> Symptom:
    return _wrong(
        symptom,
        message("written-another-way", cost=cost, now=now),
        Cause(
            "worded-past-the-index",
            message("worded-past-the-index", done=each.done, query=entry.query or "SQL"),
        ),
        now,
        cost,
    )


def _avoidable(
    symptom: Symptom,
    table: TableName,
    used: Mapping[IndexDesign, TableName],
    now: float,
    cost: float,
    entry: PlanEntry,
) -> Symptom:
    whole = {replace(d, table=of).words: of for d, of in used.items()}
    mine = [words for words, of in whole.items() if of == table]
    others = [words for words, of in whole.items() if of != table]
    return _wrong(
        symptom,
        message("index-would-avoid-scan", table=table, cost=cost, now=now),
        Cause(
            "no-index",
            message("planner-would-take", indexes=mine, beside=others, query=entry.query or "SQL"),
        ),
        now,
        cost,
    )


def _wrong(symptom: Symptom, summary: Message, cause: Cause, now: float, cost: float) -> Symptom:
    """What was called right is avoidable after all: the plan would cost less without it."""
    return replace(
        symptom,
        name=AVOIDABLE,
        summary=summary,
        evidence={**symptom.evidence, "cost_now": now, "cost_predicted": round(cost, 2)},
        cause=cause,
        cost_share=1.0 - cost / now,
        harmless=False,
    )
