"""Each rule with cases that must fire and look-alikes that must not, on recorded plans."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from humble_ledger.core.plans.arithmetic import accounts
from humble_ledger.core.symptoms.case import Case
from humble_ledger.core.symptoms.in_plans.registry import find_symptoms
from humble_ledger.core.symptoms.model import Symptom
from humble_ledger.engines.postgresql.costs.scans import PostgresCosts
from tests.core.remedies.test_prediction import SERVER, TABLES, table
from tests.plans import RECORDED, plan_of, recorded, step

SMALL = {
    t.name: t
    for t in (
        table("buoy", 400, 3, "buoy_id", "region_id", indexes=("buoy_id",)),
        table("sensor", 2400, 17, "sensor_id", "buoy_id", indexes=("sensor_id",)),
        table("region", 12, 1, "region_id", indexes=("region_id",)),
        table("keeper", 900, 7, "keeper_id", "region_id", indexes=("keeper_id",)),
    )
}


def symptoms(major: int, name: str) -> list[Symptom]:
    return find_symptoms(
        Case.of(recorded(major, name), SERVER, {**TABLES, **SMALL}, PostgresCosts(SERVER))
    )


@pytest.mark.parametrize("major", [15, 18])
@pytest.mark.parametrize(
    ("name", "symptom", "cause"),
    [
        ("01-readings-of-a-sensor", "selective-full-scan", "no-index"),
        ("20-highest-values", "selective-full-scan", "no-index"),
        ("02-alerts-of-a-day", "selective-full-scan", "function-on-column"),
        ("03-reading-by-decimal-id", "selective-full-scan", "type-mismatch"),
        ("10-open-alerts-per-buoy", "subquery-per-row", "correlated-subquery"),
        ("09-sensors-of-a-coast", "missing-join-condition", "join-condition-missing"),
        ("11-keepers-near-alerts", "distinct-hides-fan-out", "join-where-a-test-would-do"),
        ("12-monthly-means", "aggregation-after-join", "late-aggregation"),
        ("14-alert-page", "deep-paging", "offset-skips-rows"),
        ("19-visits-of-a-keeper", "selective-full-scan", "no-index"),
        ("13-alert-export", "sort-spills", "memory-too-small"),
        ("18-season-quality", "scan-is-right", "most-rows-wanted"),
    ],
)
def test_the_first_symptom_names_the_cause(major: int, name: str, symptom: str, cause: str) -> None:
    first = symptoms(major, name)[0]
    assert (first.name, first.cause.name) == (symptom, cause)
    assert first.summary and first.cause.detail


@pytest.mark.parametrize("major", [15, 18])
@pytest.mark.parametrize("slow_start", [4.0, 40.0])
def test_workers_that_start_slowly_are_laid_to_the_scan_they_were_started_for(
    major: int, slow_start: float
) -> None:
    plan = recorded(major, "01-readings-of-a-sensor")
    gather = plan.root
    assert gather.elapsed is not None
    late = replace(gather.elapsed, total_ms=gather.elapsed.total_ms * slow_start)
    plan = replace(plan, root=replace(gather, elapsed=late), execution_ms=late.total_ms)
    found = find_symptoms(Case.of(plan, SERVER, TABLES, PostgresCosts(SERVER)))
    assert [s.name for s in found] == ["selective-full-scan"]
    assert (found[0].cost_share or 0.0) > 0.9


# Every recorded plan in which a rule may fire; all others are its look-alikes.
WHERE_IT_IS = {
    "missing-join-condition": {"09-sensors-of-a-coast"},
    "subquery-per-row": {"10-open-alerts-per-buoy", "sub-plan-in-output"},
    "distinct-hides-fan-out": {"11-keepers-near-alerts"},
    "aggregation-after-join": {"12-monthly-means"},
    "deep-paging": {"14-alert-page"},
    "index-scan-discards-most": {"06-latest-poor-readings", "anti-join", "lateral"},
    "leading-column-missing": set(),
    "full-index-scan": set(),
    "missing-covering-index": set(),
    "index-only-heap-fetches": set(),
    "lossy-bitmap": {"bitmap-lossy"},
    "sort-without-index": set(),
    "top-n-without-index": {"sort-few"},
    "join-side-without-index": set(),
    "constant-subquery-again": set(),
    "volatile-filter": set(),
    "random-order": set(),
    "hash-spills": {"hash-on-disk"},
    "materialize-spills": set(),
    "table-bloat": set(),
    "planning-outweighs-running": set(),
    "jit-overhead": set(),
    "triggers-take-time": set(),
}


@pytest.mark.parametrize("path", RECORDED, ids=lambda p: f"{p.parent.name}-{p.stem}")
def test_a_rule_fires_where_it_should_and_nowhere_else(path: Path) -> None:
    found = {s.name for s in symptoms(int(path.parent.name), path.stem)}
    wanted = {name for name, plans in WHERE_IT_IS.items() if path.stem in plans}
    assert found & set(WHERE_IT_IS) == wanted


@pytest.mark.parametrize("path", RECORDED, ids=lambda p: f"{p.parent.name}-{p.stem}")
def test_together_they_never_cost_more_than_the_plan(path: Path) -> None:
    plan = recorded(int(path.parent.name), path.stem)
    found = symptoms(int(path.parent.name), path.stem)
    assert sum(s.cost_share or 0 for s in found) <= 1.0 + 1e-9
    whole = accounts(plan)[plan.root.no].total_ms or 0.0
    assert sum(s.cost_ms or 0 for s in found) <= whole * 1.001


@pytest.mark.parametrize("major", [15, 18])
@pytest.mark.parametrize(
    "name",
    ["15-one-sensor", "16-one-reading", "17-a-day-of-a-buoy", "nothing", "function-scan", "values",
     "lock-rows", "never-ran"],
)  # fmt: skip
def test_healthy_plans_have_none(major: int, name: str) -> None:
    assert symptoms(major, name) == []


@pytest.mark.parametrize("major", [15, 18])
def test_correlated_columns_are_the_cause_of_the_misestimate(major: int) -> None:
    found = {s.name: s for s in symptoms(major, "05-alerts-of-a-crew")}
    assert found["row-misestimate"].cause.name == "correlated-columns"
    assert found["row-misestimate"].evidence["factor"] > 100  # type: ignore[operator]


@pytest.mark.parametrize("major", [15, 18])
def test_the_misestimate_that_drives_a_loop_costs_what_the_loop_took(major: int) -> None:
    first = symptoms(major, "08-visits-after-alerts")[0]
    assert (first.name, first.cause.name) == ("row-misestimate", "correlated-columns")
    assert "Nested Loop" in str(first.summary.arguments["drives"])
    assert (first.cost_share or 0) > 0.8


@pytest.mark.parametrize("major", [15, 18])
def test_symptoms_never_cost_more_than_the_plan(major: int) -> None:
    for name in ("01-readings-of-a-sensor", "05-alerts-of-a-crew", "10-open-alerts-per-buoy"):
        plan = recorded(major, name)
        whole = accounts(plan)[plan.root.no].total_ms or 0
        for symptom in symptoms(major, name):
            assert (symptom.cost_ms or 0) <= whole
            assert 0 <= (symptom.cost_share or 0) <= 1


def _scan(**more: object) -> list[str]:
    fields = {"Relation_Name": "reading", "Schema": "public", "Alias": "reading", **more}
    plan = plan_of(step("Seq Scan", cost=31250.0, **fields))  # type: ignore[arg-type]
    return [s.name for s in find_symptoms(Case.of(plan, SERVER, TABLES, PostgresCosts(SERVER)))]


def test_an_estimate_is_judged_by_its_expected_rows() -> None:
    assert _scan(rows=600, Filter="(reading.sensor_id = 7)") == ["selective-full-scan"]
    assert _scan(rows=1_400_000, Filter="(reading.quality = 1)") == ["scan-is-right"]


def test_a_table_nobody_told_about_gives_no_verdict() -> None:
    assert _scan(rows=600, Relation_Name="unknown", Filter="(unknown.a = 1)") == []


def test_a_cast_of_varchar_is_no_type_mismatch() -> None:
    columns = dict(TABLES[next(iter(TABLES))].columns)
    text = columns["sensor_id"]
    columns["sensor_id"] = type(text)(
        "sensor_id", "character varying(20)", 2, True, -1, 4, 9, 0.0, 2400, 0.0
    )
    reading = replace(next(iter(TABLES.values())), columns=columns)
    plan = plan_of(
        step("Seq Scan", rows=600, cost=31250.0, Relation_Name="reading", Schema="public",
             Filter="((reading.sensor_id)::text = 'S-1'::text)")
    )  # fmt: skip
    (found,) = find_symptoms(Case.of(plan, SERVER, {reading.name: reading}, PostgresCosts(SERVER)))
    assert found.cause.name == "no-index"


@pytest.mark.parametrize(
    ("node", "spills"),
    [
        (step("Sort", step("Seq Scan"), rows=500_000, width=100), True),
        (step("Sort", step("Seq Scan"), rows=500, width=100), False),
        (step("Incremental Sort", step("Seq Scan"), rows=500_000, width=100), False),
        (step("Limit", step("Sort", step("Seq Scan"), rows=500_000, width=100)), False),
    ],
)
def test_a_spill_is_foreseen_only_where_all_is_sorted(
    node: dict[str, object], spills: bool
) -> None:
    found = [
        s.name for s in find_symptoms(Case.of(plan_of(node), SERVER, {}, PostgresCosts(SERVER)))
    ]
    assert found == (["sort-spills"] if spills else [])


def test_what_a_join_leaves_early_was_sorted_all_the_same() -> None:
    rows = step("Seq Scan", ms=20.0, seen=500_000, width=100)
    ordered = step(
        "Sort", rows, ms=90.0, seen=700, width=100,
        Sort_Space_Used=20_000, Sort_Space_Type="Disk", Sort_Method="external merge",
    )  # fmt: skip
    plan = plan_of(step("Merge Join", ordered, step("Seq Scan", ms=1.0), ms=100.0),
                   **{"Execution Time": 100.0})  # fmt: skip
    told = find_symptoms(Case.of(plan, SERVER, {}, PostgresCosts(SERVER)))
    found = next(each for each in told if each.name == "sort-spills")
    assert found.evidence["rows_sorted"] == 500_000
    assert found.evidence["memory_needed_bytes_estimated"] > 500_000 * 100
