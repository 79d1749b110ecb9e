from __future__ import annotations

import json
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from humble_ledger.core.plans.arithmetic import accounts, own_cost_of_steps
from humble_ledger.core.plans.model import Operation, Plan
from humble_ledger.engines.postgresql.plans.reader import read_plan
from tests.plans import RECORDED, plan_of, recorded, step

assert len(RECORDED) >= 200, "run tests/record_plans.py"


@pytest.mark.parametrize("path", RECORDED, ids=lambda p: f"{p.parent.name}-{p.stem}")
def test_real_plans_add_up(path: Path) -> None:
    plan = read_plan(json.loads(path.read_text()), path.parent.name)
    figures = accounts(plan)
    root = figures[plan.root.no]
    assert root.total_ms is not None and plan.execution_ms is not None
    own = [a.self_ms for a in figures.values()]
    assert own and all(ms is not None and ms >= 0 for ms in own)
    # The server rounds the time of each loop to a microsecond.
    grain = sum(0.0005 * max(node.loops or 0, 4) for node in plan.nodes())
    assert sum(ms or 0 for ms in own) == pytest.approx(root.total_ms, rel=0.01, abs=grain)
    assert root.total_ms <= plan.execution_ms + grain
    costs = [a.self_cost for a in figures.values()]
    assert min(costs) >= 0
    assert sum(costs) == pytest.approx(plan.cost_total or 0)
    pages = [a.self_pages.touched for a in figures.values() if a.self_pages]
    assert plan.root.pages is not None and sum(pages) == plan.root.pages.touched
    assert not [n.label for n in plan.nodes() if n.operation is Operation.OTHER]


def test_loops_multiply_what_the_server_averages() -> None:
    outer = step("Seq Scan", ms=2.0, seen=100, cost=20, rows=100)
    inner = step("Index Scan", ms=0.01, seen=0.5, loops=100, cost=0.5, rows=1)
    plan = plan_of(step("Nested Loop", outer, inner, ms=4.0, seen=50, cost=75))
    figures = accounts(plan)
    assert figures[3].total_ms == pytest.approx(1.0)
    assert figures[3].rows == pytest.approx(50)
    assert figures[1].self_ms == pytest.approx(1.0)
    assert figures[3].self_cost == pytest.approx(50)
    assert figures[1].self_cost == pytest.approx(5)


def test_below_a_gather_elapsed_and_process_time_part() -> None:
    scan = step("Seq Scan", ms=30.0, loops=3, seen=100, Parallel_Aware=True)
    plan = plan_of(step("Gather", scan, ms=40.0, seen=300, Workers_Planned=2, Workers_Launched=2))
    figures = accounts(plan)
    assert figures[2].total_ms == pytest.approx(30)
    assert figures[2].process_ms == pytest.approx(90)
    assert figures[1].self_ms == pytest.approx(10)
    assert figures[2].rows == 300


def test_a_cte_is_paid_by_its_reader_and_an_init_plan_by_its_first_user() -> None:
    cte = step("Seq Scan", ms=5.0, Subplan_Name="CTE w", Parent_Relationship="InitPlan")
    reader = step("CTE Scan", ms=7.0, CTE_Name="w", Parent_Relationship="Outer")
    plan = plan_of(step("Sort", cte, reader, ms=8.0))
    figures = accounts(plan)
    assert [figures[n].self_ms for n in (1, 2, 3)] == pytest.approx([1.0, 5.0, 2.0])

    first = step(
        "Aggregate", ms=4.0, Subplan_Name="InitPlan 1 (returns $0)", Parent_Relationship="InitPlan"
    )
    user = step("Seq Scan", ms=9.0, Filter="(a > $0)", Parent_Relationship="Outer")
    figures = accounts(plan_of(step("Aggregate", first, user, ms=10.0)))
    assert [figures[n].self_ms for n in (1, 2, 3)] == pytest.approx([1.0, 4.0, 5.0])


def test_what_the_gathering_process_runs_by_itself_is_not_spread_over_workers() -> None:
    """Two rows came from three processes; for each the gathering one ran a scan of 80 ms."""
    scan = step("Seq Scan", ms=50.0, loops=3, seen=0.67, Parallel_Aware=True)
    called = step(
        "Seq Scan", ms=80.0, loops=2, Subplan_Name="SubPlan 1", Parent_Relationship="SubPlan"
    )
    plan = plan_of(step("Gather", scan, called, ms=215.0, seen=2, Workers_Launched=2))
    figures = accounts(plan)
    assert figures[3].total_ms == figures[3].process_ms == pytest.approx(160)
    assert [figures[n].self_ms for n in (1, 2, 3)] == pytest.approx([5.0, 50.0, 160.0])


def test_a_value_that_workers_need_is_waited_for_by_the_step_that_gathers() -> None:
    value = step("Aggregate", ms=100.0, Subplan_Name="InitPlan 1", Parent_Relationship="InitPlan")
    scan = step("Seq Scan", ms=94.0, loops=3, Filter="(price > (InitPlan 1).col1)")
    gather = step("Gather", scan, ms=217.0, Workers_Launched=2, Parent_Relationship="Outer")
    figures = accounts(plan_of(step("Aggregate", value, gather, ms=218.0)))
    # Aggregate, value, gathering, scan: all of the scan's time is the scan's.
    assert [figures[n].self_ms for n in (1, 2, 3, 4)] == pytest.approx([1.0, 100.0, 23.0, 94.0])


def test_a_sub_query_that_a_scan_tests_rows_by_is_expected_once_for_each_row_read() -> None:
    """60,000 rows are read at a cost of 2,000, each for 1,291; 300 are left."""
    called = step(
        "Aggregate", cost=1291, rows=1, Subplan_Name="SubPlan 1", Parent_Relationship="SubPlan"
    )
    test = "(r.given_on = (SubPlan 1))"
    scan = step("Seq Scan", called, cost=2000 + 60_000 * 1291, rows=300, Filter=test)
    owns = own_cost_of_steps(plan_of(scan))
    assert owns[2] > 0.99 * (owns[1] + owns[2])
    hashed = step("Seq Scan", called, cost=3291, rows=300, Filter=test.replace("Sub", "hashed Sub"))
    assert own_cost_of_steps(plan_of(hashed)) == pytest.approx({1: 2000.0, 2: 1291.0})


def test_a_sub_query_that_is_only_shown_is_expected_once_for_each_row_that_is() -> None:
    """One row of 80,000 finds a partner, and its bills alone are counted."""
    called = step(
        "Aggregate", cost=20, rows=1, Subplan_Name="SubPlan 1", Parent_Relationship="SubPlan"
    )
    customers = step("Seq Scan", cost=2442, rows=80_000, Parent_Relationship="Outer")
    found = step("Hash", cost=1792, rows=1, Parent_Relationship="Inner")
    shown = {"Output": ["c.id", "(SubPlan 1)"]}
    join = step("Hash Join", customers, found, called, cost=4464, rows=1, **shown)
    owns = own_cost_of_steps(plan_of(join))
    assert owns == pytest.approx({1: 210.0, 2: 2442.0, 3: 1792.0, 4: 20.0})
    # What is summed up is computed for each row that comes in.
    summed = step("Aggregate", customers, called, cost=1_602_500, rows=1,
                  Output=["sum((SubPlan 1))"])  # fmt: skip
    assert own_cost_of_steps(plan_of(summed))[3] == pytest.approx(1_600_000)


def test_workers_that_outlast_their_gathering_do_not_make_a_plan_longer() -> None:
    """A limit had its rows; the workers went on for a while."""
    sort = step("Sort", step("Seq Scan", ms=60.0, loops=3), ms=66.0, loops=3)
    gather = step("Gather Merge", sort, ms=55.0, Workers_Launched=2)
    figures = accounts(plan_of(step("Limit", gather, ms=55.5)))
    assert [figures[n].self_ms for n in (1, 2, 3, 4)] == pytest.approx([0.5, 0.0, 5.0, 50.0])
    assert figures[4].total_ms == pytest.approx(60.0)  # as the server says


def test_a_limit_that_stops_early_does_not_make_costs_negative() -> None:
    plan = plan_of(step("Limit", step("Seq Scan", cost=1000, rows=1000), cost=5, rows=5))
    assert own_cost_of_steps(plan) == {1: 0.0, 2: 5.0}


def test_never_ran_is_not_zero_rows() -> None:
    plan = recorded(18, "never-ran")
    idle = [n for n in plan.nodes() if n.never_ran]
    assert idle and all(accounts(plan)[n.no].self_ms == 0 for n in idle)
    seen_nothing = [n for n in plan.nodes() if n.rows_seen == 0 and not n.never_ran]
    assert seen_nothing


def _trees(depth: int) -> st.SearchStrategy[dict[str, object]]:
    cost = st.floats(0, 1e6, allow_nan=False)
    rows = st.integers(0, 10_000)
    kinds = st.sampled_from(
        ["Sort", "Nested Loop", "Limit", "Hash", "Append", "Materialize", "Gather"]
    )
    leaf = st.builds(lambda c, r: step("Seq Scan", cost=c, rows=r), cost, rows)
    return st.recursive(
        leaf,
        lambda below: st.builds(
            lambda kind, children, c, r: step(kind, *children, cost=c, rows=r),
            kinds, st.lists(below, min_size=1, max_size=3), cost, rows,
        ),
        max_leaves=depth,
    )  # fmt: skip


@settings(max_examples=150)
@given(_trees(12))
def test_own_costs_of_any_plan_are_never_negative_and_add_up(root: dict[str, object]) -> None:
    plan: Plan = plan_of(root)
    owns = own_cost_of_steps(plan)
    assert min(owns.values()) >= 0
    assert sum(owns.values()) == pytest.approx(plan.cost_total or 0.0, rel=1e-6, abs=1e-6)
