"""Proposing: from plans to indexes worth trying, each with its prediction."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime

from humble_ledger.core.entries import PlanEntry, RemedyEntry
from humble_ledger.core.remedies.candidates import Candidate, candidates
from humble_ledger.core.remedies.choice import CLEAR_GAIN, Priced, worth_trying
from humble_ledger.core.remedies.model import (
    IndexDesign,
    Prediction,
    Remedy,
    RemedyType,
    Upkeep,
    index_remedy,
)
from humble_ledger.core.remedies.prediction import FormulaPredictor
from humble_ledger.core.remedies.removal import removal
from humble_ledger.core.remedies.rewrites.remedies import rewrite_remedies
from humble_ledger.core.remedies.settings import setting_remedies
from humble_ledger.core.remedies.statistics import schema_statistics, statistics_remedies
from humble_ledger.core.routes.exploring import said
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.symptoms.in_plans.registry import find_symptoms
from humble_ledger.core.symptoms.in_schema.registry import schema_symptoms
from humble_ledger.core.symptoms.model import Symptom
from humble_ledger.errors import StatementRejected, WrongUsage
from humble_ledger.workflow.diagnosing.plans import case_of, plan_to_judge
from humble_ledger.workflow.diagnosing.schema import searched_columns
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.ranking import captured_queries
from humble_ledger.workflow.reading import SAVED
from humble_ledger.workflow.subjects import subject_of
from humble_ledger.workflow.workspace import Workspace

MOST_PER_QUERY = 3
PLANNER = "planner"


@dataclass(frozen=True, slots=True)
class _Studied:
    """One query with its plan, its candidates, what else its symptoms call for, its calls."""

    query: str
    plan: PlanEntry
    tables: Mapping[TableName, TableFacts]
    candidates: Mapping[IndexDesign, Candidate]
    others: tuple[Remedy, ...]
    calls: float


def propose(
    workspace: Workspace,
    whats: Sequence[str] = (),
    progress: Progress = lambda _: None,
    types: Collection[RemedyType] = tuple(RemedyType),
) -> list[RemedyEntry]:
    """Changes that should help the subjects (all captured queries when none is named).

    Each candidate index is predicted for every one of the queries; those that clearly help
    and are not beaten by a smaller one are kept in the ledger, the best first. Statistics and
    settings follow from the symptoms of the plans, and when no subject is named also from
    those of the schema, which call for indexes to be removed, too.
    """
    studied = [_study(workspace, what, progress) for what in whats or captured_queries(workspace)]
    found: list[Remedy] = []
    if RemedyType.INDEX in types:
        predictor = FormulaPredictor(workspace.session.server, workspace.session)
        priced = _price(studied, predictor, progress)
        weights = {each.query: each.calls for each in studied}
        chosen = worth_trying(priced, weights)[: MOST_PER_QUERY * max(1, len(studied))]
        tables = {name: facts for each in studied for name, facts in each.tables.items()}
        found += [_remedy(one, tables) for one in chosen]
    found += [other for each in studied for other in each.others]
    if not whats:
        progress("looking at the schema")
        found += _of_schema(workspace)
    kept: dict[str, RemedyEntry] = {}
    for remedy in found:
        if remedy.type in types:
            entry = workspace.ledger.remedies.keep(remedy)
            kept[entry.id] = entry
    return list(kept.values())


def _study(workspace: Workspace, what: str, progress: Progress) -> _Studied:
    progress(f"studying {what}")
    subject = subject_of(workspace, what)
    entry = plan_to_judge(workspace, subject, measure=False)
    if entry.origin == SAVED:
        raise WrongUsage(
            f"{what} is a saved plan: what would help is a question to its server.",
            'Give the statement:  humble propose "SELECT …"',
        )
    case, _ = case_of(workspace, entry)
    found = {c.design: c for c in candidates(entry.plan, case.tables)}
    query = entry.query or what
    runs = workspace.ledger.queries.all(query) if entry.query else []
    calls = float(runs[0].usage.calls) if runs else 1.0
    symptoms = find_symptoms(case)
    others = [
        *statistics_remedies(case, symptoms, query),
        *(
            _priced_setting(workspace, entry, each)
            for each in setting_remedies(case, symptoms, query)
        ),
        *(
            priced
            for each in rewrite_remedies(entry.statement, case.tables, symptoms, query)
            if (priced := _priced_rewrite(workspace, entry, each)) is not None
        ),
    ]
    return _Studied(query, entry, case.tables, found, tuple(others), max(calls, 1.0))


def _priced_setting(workspace: Workspace, entry: PlanEntry, remedy: Remedy) -> Remedy:
    """A setting with the cost the planner itself estimates under it."""
    statement = Statement(entry.statement, entry.parameters)
    try:
        under = workspace.session.explain_under(statement, remedy.settings).plan
    except StatementRejected:
        return remedy
    before, after = entry.plan.cost_total, under.cost_total
    if before is None or after is None or entry.query is None:
        return remedy
    now = "the present plan"
    return replace(
        remedy, predictions=(Prediction(entry.query, before, after, PLANNER, now, said(under)),)
    )


def _priced_rewrite(workspace: Workspace, entry: PlanEntry, remedy: Remedy) -> Remedy | None:
    """A rewriting with the planner's estimate of it; None when it would not clearly help."""
    statement = Statement(remedy.apply[0].rstrip(";"), entry.parameters)
    try:
        plan = workspace.session.explain(statement).plan
    except StatementRejected:
        return None  # it was written for another dialect than the tree's
    before, after = entry.plan.cost_total, plan.cost_total
    if before is None or after is None or before < CLEAR_GAIN * after or entry.query is None:
        return None
    now = "the present plan"
    return replace(
        remedy, predictions=(Prediction(entry.query, before, after, PLANNER, now, said(plan)),)
    )


def _of_schema(workspace: Workspace) -> list[Remedy]:
    """What the symptoms of the schema call for: indexes removed, statistics gathered."""
    session = workspace.session
    tables = session.tables(session.user_tables())
    found = []
    for symptom in schema_symptoms(tables, searched_columns(workspace), datetime.now(UTC)):
        table = next((t for t in tables.values() if _is_of(symptom, t)), None)
        if table is None:
            continue
        for remedy in (removal(table, symptom), schema_statistics(table, symptom)):
            if remedy is not None:
                found.append(remedy)
    return found


def _is_of(symptom: Symptom, table: TableFacts) -> bool:
    name = str(table.name)
    return symptom.subject == name or symptom.subject.startswith(f"{name}.")


def _price(
    studied: Sequence[_Studied], predictor: FormulaPredictor, progress: Progress
) -> list[Priced]:
    """Each candidate once, with a prediction for every query that it came up for."""
    by_design: dict[IndexDesign, list[tuple[_Studied, Candidate]]] = {}
    for each in studied:
        for design, candidate in each.candidates.items():
            by_design.setdefault(design, []).append((each, candidate))
    priced = []
    for design, uses in by_design.items():
        progress(f"predicting {design.words}")
        predictions: list[Prediction] = [
            predictor.predict(each.query, each.plan.plan, candidate) for each, candidate in uses
        ]
        candidate = uses[0][1]
        size = predictor.shape(candidate).size_bytes(candidate.access.table.page_bytes)
        priced.append(Priced(candidate, tuple(predictions), size))
    return priced


def _remedy(priced: Priced, tables: Mapping[TableName, TableFacts]) -> Remedy:
    table = tables[priced.design.table]
    writes = table.writes
    upkeep = Upkeep(
        inserted_rows=writes.inserted,
        updated_rows=writes.updated,
        in_page_share=writes.updated_in_page / writes.updated if writes.updated else None,
    )
    helped = tuple(p for p in priced.predictions if p.cost_predicted < p.cost_before)
    return index_remedy(
        priced.design,
        reason=priced.candidate.reason,
        predictions=helped,
        size_bytes=priced.size_bytes,
        upkeep=upkeep,
    )
