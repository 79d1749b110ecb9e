"""Judging one plan: which plan stands for a subject, and what the rules find in it."""

from __future__ import annotations

from collections.abc import Callable

from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.results.diagnoses import Diagnosis
from humble_ledger.core.schema.facts import SYSTEM, ServerFacts
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.symptoms.case import Case
from humble_ledger.core.symptoms.in_plans.registry import find_symptoms
from humble_ledger.core.symptoms.model import Symptom
from humble_ledger.engines.registry import dialect_of, plans_of_any
from humble_ledger.workflow.diagnosing.asking import AskedPlanner
from humble_ledger.workflow.reading.plans import explain_now, newest_plan
from humble_ledger.workflow.reading.saved import SAVED
from humble_ledger.workflow.reading.subjects import Subject
from humble_ledger.workflow.reading.surroundings import surroundings_of
from humble_ledger.workflow.workspace import Workspace

Check = Callable[[Case, list[Symptom]], list[Symptom]]
WITHOUT_SERVER = (
    "read from a file: its tables' sizes, indexes and statistics are not known here, so causes "
    "that rest on them are missing"
)
WITHOUT_TIMES = "not measured: rows that came, time, spills and workers are not known"
NO_SERVER = ServerFacts("", "", 0, "", "")


def plan_to_judge(
    workspace: Workspace, subject: Subject, *, measure: bool, allow_writes: bool = False
) -> PlanEntry:
    """The plan that stands for a subject: a given one, the newest known, or a new one."""
    if subject.plan is not None:
        return subject.plan
    if subject.saved is not None:
        return subject.saved.entry
    if subject.query is not None and not measure:
        known = newest_plan(workspace, subject.query)
        if known is not None:
            return known
    return explain_now(workspace, subject, measure=measure, allow_writes=allow_writes)


def case_of(workspace: Workspace, entry: PlanEntry) -> tuple[Case, AskedPlanner | None]:
    """A plan with all that may be known of it, and whom was asked; None without a server."""
    around = surroundings_of(workspace, entry)
    form = plans_of_any(entry.plan.engine)
    if around.server is None:
        costs = form.costs(NO_SERVER)
        alone = Case.of(
            entry.plan,
            NO_SERVER,
            around.tables,
            costs,
            statement=entry.statement,
            rules=form.rules,
        )
        return alone, None
    statement = Statement(entry.statement, entry.parameters) if entry.statement else None
    planner = AskedPlanner(workspace.session, statement)
    costs = workspace.session.costs
    # No advice can be about the server's own tables.
    tables = {name: facts for name, facts in around.tables.items() if facts.kind != SYSTEM}
    case = Case.of(
        entry.plan,
        around.server,
        tables,
        costs,
        planner,
        entry.statement,
        form.rules,
        dialect_of(entry.plan.engine),
    )
    return case, planner


def judge(
    workspace: Workspace, entry: PlanEntry, check: Check = lambda _, found: found
) -> tuple[list[Symptom], Diagnosis]:
    """What the rules find in a plan; the diagnosis is still without entries.

    A saved plan is judged by itself: no server is asked, as it may be of any. ``check`` has the
    last word on what was found with a server.
    """
    case, planner = case_of(workspace, entry)
    found = find_symptoms(case)
    if planner is not None:
        found = check(case, found)
    hint = "" if entry.origin == SAVED else "; --measure runs it"
    unknown = "" if entry.plan.measured else WITHOUT_TIMES + hint
    if planner is None:
        unknown = "; ".join(part for part in (WITHOUT_SERVER, unknown) if part)
    probes = planner.probes if planner is not None else 0
    took = planner.took_ms if planner is not None else 0.0
    return found, Diagnosis(entry, (), unknown=unknown, probes=probes, probes_ms=took)
