"""Symptoms of how a query is sent and how its runs differ, from what captures kept."""

from __future__ import annotations

import re
from collections.abc import Sequence

from humble_ledger.core.entries import CaptureEntry, PlanEntry, RunEntry, SymptomEntry
from humble_ledger.core.plans.arithmetic import accounts
from humble_ledger.core.plans.model import SCANS, Plan
from humble_ledger.core.plans.paths import rows_divided_by
from humble_ledger.core.routes.exploring import said, shape_of
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.symptoms.in_workload.blocking import SPILLS, incident_symptoms
from humble_ledger.core.symptoms.in_workload.concentration import concentration_symptom
from humble_ledger.core.symptoms.in_workload.flips import PLAN_FLIPPED, Sighting, flip_symptom
from humble_ledger.core.symptoms.in_workload.values import SLOW_FOR_SOME, PlannedFor, value_symptom
from humble_ledger.core.symptoms.model import Symptom
from humble_ledger.core.workload.ranking import Ranking
from humble_ledger.core.workload.values import FEWEST_RUNS, SlowValue, places_of
from humble_ledger.errors import HumbleError
from humble_ledger.workflow.reading.findings import slow_places
from humble_ledger.workflow.workspace import Workspace

# Places that ask for a page: what they cost is another symptom.
_ANEW = (SLOW_FOR_SOME, PLAN_FLIPPED, SPILLS)
_OF_PAGES = ("offset", "limit")
_HOLDER = re.compile(r"holding the locks?: (\d+)")


def symptoms_of_runs(workspace: Workspace, query: str) -> list[SymptomEntry]:
    """What the captured runs of a query show; kept, with what was kept when they were captured."""
    ledger = workspace.ledger
    capture = _newest_capture(workspace)
    if capture is not None:
        found = [
            *_of_values(workspace, query),
            *_of_flips(workspace, query),
            *_of_incidents(workspace, query),
        ]
        kept = ledger.symptoms.keep_of_workload(capture.id, query, found)
        ids = {entry.id for entry in kept}
        # What was seen while capturing cannot be seen again; all else is judged anew.
        old = ledger.symptoms.of_workload(query)
        return kept + [e for e in old if e.id not in ids and e.symptom.name not in _ANEW]
    return ledger.symptoms.of_workload(query)


def symptoms_of_workload(workspace: Workspace, ranking: Ranking) -> list[SymptomEntry]:
    """What all captured queries together show."""
    capture = _newest_capture(workspace)
    found = concentration_symptom(ranking.rows)
    if capture is None or found is None:
        return []
    return workspace.ledger.symptoms.keep_of_workload(capture.id, None, [found])


def _newest_capture(workspace: Workspace) -> CaptureEntry | None:
    kept = [each for each in workspace.ledger.captures.all() if each.kept]
    return kept[-1] if kept else None


def _of_values(workspace: Workspace, query: str) -> list[Symptom]:
    """Told when three runs of a value were slow, or when the planner, too, expects it to be."""
    runs = workspace.ledger.queries.runs(query)
    for fewest in (FEWEST_RUNS, 1):
        slow = [each for each in slow_places(runs, fewest) if each[0].lower() not in _OF_PAGES]
        if not slow:
            continue
        planned = _planned_for(workspace, runs, slow[0][1])
        if fewest < FEWEST_RUNS and (planned is None or not planned.differs):
            continue
        found = value_symptom(slow, planned)
        return [found] if found is not None else []
    return []


def _planned_for(
    workspace: Workspace, runs: Sequence[RunEntry], slow: SlowValue
) -> PlannedFor | None:
    """Both plans, estimated: of a run with the slow value and of one in the middle without."""
    if not workspace.has_target:
        return None
    wording = runs[0].wording
    place = places_of(wording)[slow.place]
    alike = [run for run in runs if run.wording == wording and run.duration_ms is not None]
    with_it = [r for r in alike if place.value(r.literals, r.parameters) == slow.value]
    without = [r for r in alike if place.value(r.literals, r.parameters) != slow.value]
    if not with_it or not without:
        return None
    without.sort(key=lambda run: run.duration_ms or 0.0)
    plans = [_explained(workspace, run) for run in (with_it[0], without[len(without) // 2])]
    if plans[0] is None or plans[1] is None:
        return None
    return PlannedFor(
        _rows_of_scans(plans[0]),
        _rows_of_scans(plans[1]),
        shape_of(plans[0]) == shape_of(plans[1]),
        said(plans[0]),
        said(plans[1]),
    )


def _explained(workspace: Workspace, run: RunEntry) -> Plan | None:
    try:
        return workspace.session.explain(Statement(run.statement, run.parameters)).plan
    except HumbleError:
        return None  # a plan would only have told why


def _rows_of_scans(plan: Plan) -> float:
    return sum(
        (node.rows_expected or 0.0) * rows_divided_by(plan, node)
        for node in plan.nodes()
        if node.operation in SCANS
    )


def _of_flips(workspace: Workspace, query: str) -> list[Symptom]:
    """Of the plans the server logged, else of those that were measured here."""
    ledger = workspace.ledger
    calls = next((row.usage.calls for row in ledger.queries.all(query)), 0)
    for origin in ("log", "read"):
        plans = [p for p in ledger.plans.of_query(query, origin) if p.plan.measured]
        found = flip_symptom([_sighting(entry) for entry in plans], calls)
        if found is not None:
            return [found]
    return []


def _sighting(entry: PlanEntry) -> Sighting:
    took = entry.plan.execution_ms
    if took is None:
        took = accounts(entry.plan)[entry.plan.root.no].total_ms
    values = (entry.statement, entry.parameters)
    return Sighting(entry.id, entry.at, shape_of(entry.plan), took, values, said(entry.plan))


def _of_incidents(workspace: Workspace, query: str) -> list[Symptom]:
    entries = workspace.ledger.captures.incidents(query=query)
    holders = {pid for each in entries for pid in _HOLDER.findall(each.incident.detail)}
    named = workspace.ledger.queries.of_sessions(holders) if holders else []
    return incident_symptoms((each.incident for each in entries), " and ".join(named))
