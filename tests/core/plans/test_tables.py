"""What a plan does with each table, on recorded plans."""

from __future__ import annotations

from pathlib import Path

import pytest

from humble_ledger.core.plans.arithmetic import accounts
from humble_ledger.core.plans.serving import Service, index_services
from humble_ledger.core.plans.tables import (
    Place,
    join_graph,
    reads_table,
    table_accounts,
    whole_work,
)
from humble_ledger.core.schema.facts import IndexFacts, IndexKey, TableFacts, TableName
from tests.plans import RECORDED, plan_of, recorded, step


@pytest.mark.parametrize("path", RECORDED[::3], ids=lambda p: f"{p.parent.name}-{p.stem}")
def test_accounts_cover_every_scan_once(path: Path) -> None:
    plan = recorded(int(path.parent.name), path.stem)
    found = table_accounts(plan)
    steps = [step for each in found for step in each.steps]
    assert sorted(steps) == [n.no for n in plan.nodes() if reads_table(n)]
    assert sum(each.share for each in found) <= 1.001
    for each in found:
        assert each.rows_kept is not None and each.rows_read is not None
        assert 0 <= each.rows_kept <= each.rows_read
    work = whole_work(plan)
    assert work.work_ms is not None and work.elapsed_ms is not None
    assert work.work_ms >= 0.98 * sum(a.self_ms or 0 for a in accounts(plan).values())


@pytest.mark.parametrize("major", [15, 18])
def test_a_full_scan_reads_all_and_keeps_some(major: int) -> None:
    (account,) = table_accounts(recorded(major, "01-readings-of-a-sensor"))
    assert account.name == TableName("public", "reading")
    assert account.rows_read == pytest.approx(1_500_000, rel=1e-5)
    assert account.rows_kept is not None and account.rows_kept < 1_000
    assert account.scans == pytest.approx(1)
    assert account.columns["sensor_id"] == (Place.FILTER,)
    assert account.columns["taken_at"] == (Place.FILTER, Place.SORT, Place.OUTPUT)
    assert account.columns["value"] == (Place.OUTPUT,)


def test_work_of_helpers_counts_beside_the_clock() -> None:
    work = whole_work(recorded(18, "01-readings-of-a-sensor"))
    assert work.processes == 3
    assert work.work_ms is not None and work.elapsed_ms is not None
    assert 1.5 * work.elapsed_ms < work.work_ms <= 3 * work.elapsed_ms
    assert whole_work(recorded(18, "sort-on-disk")).spilled_bytes > 100_000


@pytest.mark.parametrize("major", [15, 18])
@pytest.mark.parametrize(
    ("name", "apart"),
    [
        ("five-tables", ()),
        ("union-of-three", ()),
        ("sub-plan-in-output", ()),
        ("lateral", ()),
        ("09-sensors-of-a-coast", (("r", "k"), ("s", "b"))),
    ],
)
def test_what_no_condition_ties_together(major: int, name: str, apart: tuple[object, ...]) -> None:
    graph = join_graph(recorded(major, name))
    found = {frozenset(group) for groups in graph.apart for group in groups}
    assert found == {frozenset(group) for group in apart}  # type: ignore[call-overload]


def test_ties_tell_their_join_or_sub_plan() -> None:
    ties = join_graph(recorded(18, "sub-plan-in-output")).ties
    assert [(tie.one, tie.other) for tie in ties] == [("b", "v")]
    assert "SubPlan" in ties[0].method
    assert len(join_graph(recorded(18, "five-tables")).ties) == 4


def _index(name: str, *columns: str) -> IndexFacts:
    return IndexFacts(name, "btree", tuple(IndexKey(column) for column in columns))


def test_which_index_served_and_which_could() -> None:
    plan = recorded(18, "17-a-day-of-a-buoy")
    (account,) = table_accounts(plan)
    table = TableFacts(
        account.name,
        "table",
        1_500_000,
        12_500,
        100_000_000,
        indexes=(
            _index("other", "quality"),
            _index("reading_buoy", "buoy_id"),
            _index("reading_buoy_taken", "buoy_id", "taken_at"),
            _index("wrong_end", "quality", "taken_at"),
        ),
    )
    found = [(s.index.name, s.service, s.keys_led) for s in index_services(plan, table, account)]
    assert found == [
        ("reading_buoy_taken", Service.USED, 2),
        ("reading_buoy", Service.COULD, 1),
        ("wrong_end", Service.BEHIND, 0),
        ("other", Service.NOT, 0),
    ]


def test_a_table_on_another_server_counts_as_one_that_is_read() -> None:
    foreign = step("Foreign Scan", Relation_Name="f", Alias="f", ms=1.0, seen=5)
    (account,) = table_accounts(plan_of(foreign))
    assert (account.name.name, account.rows_read) == ("f", 5)
