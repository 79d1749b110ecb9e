"""Diagnosing the whole demo: each planted fault named first, what is fine left alone."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

from humble_ledger.core.results.diagnoses import Diagnoses, Diagnosis
from humble_ledger.core.statements.fingerprint import normalise
from humble_ledger.demo.workload import load_workload
from humble_ledger.workflow.diagnosing.everything import diagnose
from humble_ledger.workflow.workspace import Workspace
from tests.conftest import Server

# The statement's name in the demo, its first symptom, the cause.
PLANTED = {
    "01-readings-of-a-sensor": ("selective-full-scan", "no-index"),
    "02-alerts-of-a-day": ("selective-full-scan", "function-on-column"),
    "03-reading-by-decimal-id": ("selective-full-scan", "type-mismatch"),
    "04-alerts-by-code": ("leading-column-missing", "not-the-leading-column"),
    "07-mean-of-a-buoy": ("slow-for-some-values", "value-with-many-rows"),
    "08-visits-after-alerts": ("row-misestimate", "correlated-columns"),
    "09-sensors-of-a-coast": ("missing-join-condition", "join-condition-missing"),
    "10-open-alerts-per-buoy": ("subquery-per-row", "correlated-subquery"),
    "11-keepers-near-alerts": ("distinct-hides-fan-out", "join-where-a-test-would-do"),
    "12-monthly-means": ("aggregation-after-join", "late-aggregation"),
    "13-alert-export": ("sort-spills", "memory-too-small"),
    "14-alert-page": ("deep-paging", "offset-skips-rows"),
    "15-one-sensor": ("n-plus-one-queries", "loop-in-the-application"),
    "19-visits-of-a-keeper": ("selective-full-scan", "no-index"),
    "20-highest-values": ("selective-full-scan", "no-index"),
}
# What some runs took against what the plan took: one stalled run changes their order.
BY_TIMES = "07-mean-of-a-buoy"
OTHERWISE = ("missing-covering-index", "column-not-in-index")
# Two faults of about the same weight: which comes first is the machine's.
CREW = {("selective-full-scan", "no-index"), ("row-misestimate", "correlated-columns")}
# The planner takes one of two ways here, as its sample falls out; each has its own fault.
EITHER = {
    ("leading-column-missing", "not-the-leading-column"),
    ("index-scan-discards-most", "condition-not-in-index"),
}
HEALTHY = ("16-one-reading", "17-a-day-of-a-buoy", "18-season-quality")


@pytest.fixture(scope="module")
def judged(
    server: Server, begun_folder: Path, tmp_path_factory: pytest.TempPathFactory
) -> tuple[Diagnoses, dict[str, Diagnosis]]:
    """All captured queries diagnosed, and each by its statement's name in the demo."""
    folder = tmp_path_factory.mktemp("planted")
    shutil.copytree(begun_folder, folder, dirs_exist_ok=True)
    with Workspace.find(folder) as workspace:
        found = diagnose(workspace, measure=True)
        prints = {q.id: q.fingerprint for q in workspace.ledger.queries.all()}
    names = {normalise(w.sql).fingerprint: w.name for w in load_workload()}
    return found, {names[prints[each.plan.query or ""]]: each for each in found.plans}


def test_each_planted_fault_is_named_first(
    judged: tuple[Diagnoses, dict[str, Diagnosis]],
) -> None:
    first = {}
    for name, planted in PLANTED.items():
        kept = [
            each.symptom
            for each in judged[1][name].symptoms
            if not each.symptom.name.startswith("workers-")  # of a busy machine
        ]
        found = [(symptom.name, symptom.cause.name) for symptom in kept]
        # Which value took longest is told by the times of a few runs, on a machine with neighbours.
        told = found if name == BY_TIMES else found[:1]
        agreed = planted in told or (name == BY_TIMES and OTHERWISE in found)
        first[name] = planted if agreed else found[0]
    assert first == PLANTED
    crew = {
        (s.symptom.name, s.symptom.cause.name) for s in judged[1]["05-alerts-of-a-crew"].symptoms
    }
    assert crew >= CREW
    latest = judged[1]["06-latest-poor-readings"].symptoms[0].symptom
    assert (latest.name, latest.cause.name) in EITHER


def test_what_moves_together_and_what_is_past_the_statistics_is_told_too(
    judged: tuple[Diagnoses, dict[str, Diagnosis]],
) -> None:
    causes = {
        name: {e.symptom.cause.name for e in judged[1][name].symptoms}
        for name in ("05-alerts-of-a-crew", "06-latest-poor-readings")
    }
    assert "correlated-columns" in causes["05-alerts-of-a-crew"]
    assert "beyond-statistics" in causes["06-latest-poor-readings"]


def test_an_estimate_is_explained_by_its_conditions_alone_and_together(
    judged: tuple[Diagnoses, dict[str, Diagnosis]], server: Server
) -> None:
    (wrong,) = [
        e.symptom
        for e in judged[1]["08-visits-after-alerts"].symptoms
        if e.symptom.name == "row-misestimate"
    ]
    chain = wrong.chain
    assert chain is not None
    assert chain.multiplied
    counts = {
        link.condition: int(
            str(server.fetch(f"SELECT count(*) FROM alert a WHERE {link.condition}")[0][0])
        )
        for link in chain.links
    }
    assert len(counts) == 4
    for link in chain.links:
        assert link.rows == pytest.approx(counts[link.condition], rel=0.15)
    assert chain.seen_rows is not None
    assert chain.seen_rows > 20 * chain.product * chain.table_rows


def test_healthy_queries_are_left_alone(judged: tuple[Diagnoses, dict[str, Diagnosis]]) -> None:
    for name in HEALTHY:
        found = [e.symptom for e in judged[1][name].symptoms if not e.symptom.harmless]
        assert [s.name for s in found if not s.name.startswith("workers-")] == []
    (right,) = [
        e.symptom.name for e in judged[1]["18-season-quality"].symptoms if e.symptom.harmless
    ]
    assert right == "scan-is-right"


def test_no_plan_wastes_more_than_it_took(judged: tuple[Diagnoses, dict[str, Diagnosis]]) -> None:
    for each in judged[0].plans:
        of_plan = [e.symptom for e in each.symptoms if e.plan and e.symptom.cost_share is not None]
        whole = each.plan.plan.execution_ms or 0.0
        assert sum(s.cost_ms or 0.0 for s in of_plan) <= whole * 1.001
        # Parts of the time, and of the estimated cost where that alone is known.
        for timed in (True, False):
            parts = (s.cost_share or 0.0 for s in of_plan if (s.cost_ms is not None) == timed)
            assert sum(parts) <= 1.0 + 1e-9
        assert each.probes <= 60


def test_the_schema_has_its_planted_faults_and_no_other(
    judged: tuple[Diagnoses, dict[str, Diagnosis]],
) -> None:
    found = {(e.symptom.name, e.symptom.subject) for e in judged[0].schema}
    # Whether reading_quality is used depends on what ran on this server before.
    assert found - {("unused-index", "reading.reading_quality")} == {
        ("redundant-index", "reading.reading_buoy"),
        ("foreign-key-without-index", "alert.alert_buoy_id_fkey"),
        ("foreign-key-without-index", "visit.visit_keeper_id_fkey"),
    }
