"""Time that goes beside the steps, and workers: rules that no quiet server shows when asked."""

from __future__ import annotations

from dataclasses import replace

import pytest

from humble_ledger.core.plans.model import Plan, Trigger
from humble_ledger.core.symptoms.case import Case
from humble_ledger.core.symptoms.in_plans.registry import find_symptoms
from humble_ledger.engines.postgresql.costs.scans import PostgresCosts
from tests.core.remedies.test_prediction import SERVER, TABLES
from tests.plans import plan_of, recorded, step

SCAN = recorded(18, "16-one-reading")


def names(plan: Plan) -> list[str]:
    return [
        s.name
        for s in find_symptoms(Case.of(plan, SERVER, TABLES, PostgresCosts(SERVER)))
        if not s.harmless
    ]


@pytest.mark.parametrize(
    ("planning", "running", "fires"),
    [(60.0, 5.0, True), (25.0, 24.0, True), (60.0, 80.0, False), (2.0, 0.1, False)],
)
def test_planning_that_takes_longer_than_running(
    planning: float, running: float, fires: bool
) -> None:
    plan = replace(SCAN, planning_ms=planning, execution_ms=running)
    assert ("planning-outweighs-running" in names(plan)) == fires


def test_planning_of_one_table_is_not_laid_to_many_tables() -> None:
    (found,) = find_symptoms(
        Case.of(
            replace(SCAN, planning_ms=60.0, execution_ms=5.0), SERVER, TABLES, PostgresCosts(SERVER)
        )
    )
    assert found.cause is not None and found.cause.name == "much-to-weigh"


def test_an_estimate_tells_nothing_of_planning_and_running() -> None:
    assert names(replace(SCAN, planning_ms=60.0, execution_ms=None)) == []


@pytest.mark.parametrize(
    ("compiling", "running", "fires"),
    [(80.0, 100.0, True), (30.0, 100.0, True), (15.0, 100.0, False), (4.0, 5.0, False)],
)
def test_compiling_that_does_not_pay(compiling: float, running: float, fires: bool) -> None:
    plan = plan_of(step("Result", ms=running), **{"Execution Time": running})
    plan = replace(plan, compile_ms=compiling)
    assert ("jit-overhead" in names(plan)) == fires


@pytest.mark.parametrize(
    ("took", "fires"), [(90.0, True), (25.0, True), (15.0, False), (None, False)]
)
def test_triggers_that_take_a_fifth_of_the_time(took: float | None, fires: bool) -> None:
    plan = plan_of(step("Result", ms=10.0), **{"Execution Time": 100.0})
    plan = replace(plan, triggers=(Trigger("alert_buoy_id_fkey", 3.0, took),))
    assert ("triggers-take-time" in names(plan)) == fires


def gathered(leader: float, workers: list[tuple[float, float]], elapsed: float) -> Plan:
    """A scan by a leader and workers: (rows, ms) of each worker; ms and rows of the leader."""
    each = [
        {"Worker Number": n, "Actual Rows": rows, "Actual Loops": 1, "Actual Total Time": ms}
        for n, (rows, ms) in enumerate(workers)
    ]
    loops = len(workers) + 1
    rows = 100_000.0 + sum(rows for rows, _ in workers)
    times = leader + sum(ms for _, ms in workers)
    scan = step("Seq Scan", ms=times / loops, seen=rows / loops, loops=loops, Workers=each)
    scan["Parallel Aware"] = True
    top = step("Gather", scan, ms=elapsed, seen=rows)
    top |= {"Workers Planned": len(workers), "Workers Launched": len(workers)}
    return plan_of(top)


@pytest.mark.parametrize(
    ("leader", "workers", "fires"),
    [
        (100.0, [(500.0, 2.0), (400.0, 2.0)], True),
        (90.0, [(0.0, 5.0), (0.0, 1.0), (10.0, 1.0)], True),
        (100.0, [(500.0, 98.0), (400.0, 97.0)], False),  # few rows each, and busy all the same
        (50.0, [(90_000.0, 52.0), (95_000.0, 51.0)], False),
    ],
)
def test_workers_that_had_nothing_to_do(
    leader: float, workers: list[tuple[float, float]], fires: bool
) -> None:
    plan = gathered(leader, workers, max(leader, *(ms for _, ms in workers)))
    assert ("uneven-parallel-workers" in names(plan)) == fires


@pytest.mark.parametrize(
    ("elapsed", "fires"), [(320.0, True), (400.0, True), (120.0, False), (150.0, False)]
)
def test_workers_that_buy_little(elapsed: float, fires: bool) -> None:
    plan = gathered(100.0, [(90_000.0, 100.0), (90_000.0, 100.0)], elapsed)
    assert ("parallel-overhead" in names(plan)) == fires
