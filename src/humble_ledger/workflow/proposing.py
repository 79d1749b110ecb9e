"""Proposing: from plans to indexes worth trying, each with its prediction."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from humble_ledger.core.entries import PlanEntry, RemedyEntry
from humble_ledger.core.remedies.candidates import Candidate, candidates
from humble_ledger.core.remedies.choice import Priced, worth_trying
from humble_ledger.core.remedies.model import IndexDesign, Prediction, Remedy, Upkeep, index_remedy
from humble_ledger.core.remedies.prediction import FormulaPredictor
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.workflow.diagnosing.plans import plan_to_judge
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.ranking import captured_queries
from humble_ledger.workflow.reading import table_names
from humble_ledger.workflow.subjects import subject_of
from humble_ledger.workflow.workspace import Workspace

MOST_PER_QUERY = 3


@dataclass(frozen=True, slots=True)
class _Studied:
    """One query with its plan, its candidates, and how often it runs."""

    query: str
    plan: PlanEntry
    tables: Mapping[TableName, TableFacts]
    candidates: Mapping[IndexDesign, Candidate]
    calls: float


def propose(
    workspace: Workspace,
    whats: Sequence[str] = (),
    progress: Progress = lambda _: None,
) -> list[RemedyEntry]:
    """Indexes that should help the subjects (all captured queries when none is named).

    Each candidate is predicted for every one of the queries; those that clearly help and
    are not beaten by a smaller one are kept in the ledger, the best first.
    """
    studied = [_study(workspace, what, progress) for what in whats or captured_queries(workspace)]
    predictor = FormulaPredictor(workspace.session.server, workspace.session)
    priced = _price(studied, predictor, progress)
    weights = {each.query: each.calls for each in studied}
    chosen = worth_trying(priced, weights)[: MOST_PER_QUERY * max(1, len(studied))]
    tables = {name: facts for each in studied for name, facts in each.tables.items()}
    return [workspace.ledger.remedies.keep(_remedy(one, tables)) for one in chosen]


def _study(workspace: Workspace, what: str, progress: Progress) -> _Studied:
    progress(f"studying {what}")
    subject = subject_of(workspace, what)
    entry = plan_to_judge(workspace, subject, measure=False)
    tables = workspace.session.tables(table_names(entry.plan))
    found = {c.design: c for c in candidates(entry.plan, tables)}
    query = entry.query or what
    runs = workspace.ledger.queries.all(query) if entry.query else []
    calls = float(runs[0].usage.calls) if runs else 1.0
    return _Studied(query, entry, tables, found, max(calls, 1.0))


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
