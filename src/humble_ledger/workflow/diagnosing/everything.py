"""Diagnosing one, several or all queries, their workload, and the schema behind them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from humble_ledger.core.entries import PlanEntry, SymptomEntry
from humble_ledger.core.results.diagnoses import Diagnoses, Diagnosis
from humble_ledger.core.symptoms.case import Case
from humble_ledger.core.symptoms.model import Symptom
from humble_ledger.core.workload.origins import main_places
from humble_ledger.errors import HumbleError, TargetUnreachable
from humble_ledger.workflow.diagnosing.plans import judge, plan_to_judge
from humble_ledger.workflow.diagnosing.right_scans import held_against_planner
from humble_ledger.workflow.diagnosing.runs import symptoms_of_runs, symptoms_of_workload
from humble_ledger.workflow.diagnosing.schema import symptoms_of_schema
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.reading.ranking import captured_ms, captured_queries, ranking
from humble_ledger.workflow.reading.saved import SAVED
from humble_ledger.workflow.reading.subjects import subject_of
from humble_ledger.workflow.workspace import Workspace


def diagnose(
    workspace: Workspace,
    whats: Sequence[str] = (),
    *,
    measure: bool = False,
    allow_writes: bool = False,
    progress: Progress = lambda _: None,
) -> Diagnoses:
    """The symptoms of each subject, those first that waste most.

    The newest measured plan of a query is used, else its newest estimate, else it is
    explained now; with ``measure`` each query is run, and with ``allow_writes`` also those that
    change rows, which are rolled back. When none is named, all captured
    queries are judged, with the workload as a whole and the schema.
    """
    found: list[Diagnosis] = []
    refused: list[tuple[str, str]] = []
    for what in whats or captured_queries(workspace):
        progress(f"diagnosing {what}")
        try:
            found.append(_diagnose(workspace, what, measure, allow_writes, progress))
        except TargetUnreachable:
            raise
        except HumbleError as error:
            if len(whats) == 1:
                raise
            refused.append((what, error.message))
    found.sort(key=lambda each: -each.wasted_in_all_ms)
    not_judged = tuple(refused)
    if whats:
        captured = sum(each.captured_ms for each in found) if len(whats) > 1 else 0.0
        return Diagnoses(tuple(found), captured_ms=captured, not_judged=not_judged)
    progress("looking at the workload and the schema")
    ranked = ranking(workspace)
    return Diagnoses(
        tuple(found),
        tuple(symptoms_of_workload(workspace, ranked)),
        tuple(symptoms_of_schema(workspace)) if workspace.has_target else (),
        sum(row.usage.total_ms for row in ranked.rows),
        not_judged,
    )


def diagnose_schema(workspace: Workspace) -> Diagnoses:
    """The symptoms of the target's schema alone."""
    return Diagnoses((), schema=tuple(symptoms_of_schema(workspace)))


def _diagnose(
    workspace: Workspace, what: str, measure: bool, allow_writes: bool, progress: Progress
) -> Diagnosis:
    subject = subject_of(workspace, what)
    entry = plan_to_judge(workspace, subject, measure=measure, allow_writes=allow_writes)

    def check(case: Case, found: list[Symptom]) -> list[Symptom]:
        return held_against_planner(workspace, subject, entry, case, found, progress)

    symptoms, diagnosis = judge(workspace, entry, check)
    diagnosis = replace(diagnosis, what=what)
    if entry.origin == SAVED:
        return replace(diagnosis, symptoms=tuple(_unkept(entry, each) for each in symptoms))
    kept = workspace.ledger.symptoms.keep(entry, symptoms)
    captured = 0.0
    if entry.query:
        kept += symptoms_of_runs(workspace, entry.query)
        captured = captured_ms(workspace, entry.query)
        places = main_places(workspace.ledger.senders.of(query=entry.query))
        diagnosis = replace(diagnosis, sent_by=places.get(entry.query, ""))
    diagnosis = replace(diagnosis, captured_ms=captured)
    kept.sort(key=lambda each: (each.symptom.harmless, -diagnosis.wasted_ms(each)))
    return replace(diagnosis, symptoms=tuple(kept))


def _unkept(entry: PlanEntry, symptom: Symptom) -> SymptomEntry:
    """A symptom of a plan that the ledger does not have."""
    return SymptomEntry("", entry.at, None, entry.id, symptom)
