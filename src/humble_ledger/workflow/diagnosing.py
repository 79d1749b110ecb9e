"""Diagnosing: from plans to symptoms."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.core.entries import PlanEntry, SymptomEntry
from humble_ledger.core.symptoms.case import Case
from humble_ledger.core.symptoms.in_plans.registry import find_symptoms
from humble_ledger.errors import UnreadableInput
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.ranking import captured_queries
from humble_ledger.workflow.reading import explain_now, newest_plan, table_names
from humble_ledger.workflow.subjects import Subject, subject_of
from humble_ledger.workflow.workspace import Workspace


def diagnose(
    workspace: Workspace,
    whats: Sequence[str] = (),
    *,
    measure: bool = False,
    progress: Progress = lambda _: None,
) -> list[tuple[PlanEntry, list[SymptomEntry]]]:
    """The symptoms of each subject, all captured queries when none is named.

    The newest measured plan of a query is used, else its newest estimate, else it is
    explained now; with ``measure`` each query is run.
    """
    ledger = workspace.ledger
    named = list(whats) or captured_queries(workspace)
    found = []
    for what in named:
        progress(f"diagnosing {what}")
        entry = plan_to_judge(workspace, subject_of(workspace, what), measure=measure)
        case = Case.of(
            entry.plan,
            workspace.session.server,
            workspace.session.tables(table_names(entry.plan)),
        )
        symptoms = ledger.symptoms.keep(entry, find_symptoms(case))
        if entry.query:
            symptoms += ledger.symptoms.of_workload(entry.query)
        found.append((entry, symptoms))
    return found


def plan_to_judge(workspace: Workspace, subject: Subject, *, measure: bool) -> PlanEntry:
    """The plan that stands for a subject: a given one, the newest known, or a new one."""
    if subject.plan is not None:
        return subject.plan
    if subject.saved_plan is not None:
        raise UnreadableInput(
            "A saved plan cannot be diagnosed yet: it takes the tables it was made for.",
            "Read it with  humble plan FILE  or give the statement instead.",
        )
    if subject.query is not None and not measure:
        known = newest_plan(workspace, subject.query)
        if known is not None:
            return known
    return explain_now(workspace, subject, measure=measure)
