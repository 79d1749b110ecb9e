"""What a server says of a step beside the common figures."""

from __future__ import annotations

import pytest

from humble_ledger.core.plans.model import Node, Operation
from humble_ledger.core.plans.remarks import busiest_share, remarks
from tests.plans import plan_of, recorded, step


def said(major: int, name: str) -> list[str]:
    plan = recorded(major, name)
    return [r for n in plan.nodes() for r in remarks(n, lambda v: f"{v:,.0f}", plan.measured)]


@pytest.mark.parametrize("major", [15, 18])
@pytest.mark.parametrize(
    ("name", "words"),
    [
        ("partitions-pruned-at-start", "4 of 5 inputs never ran (pruned)"),
        ("bitmap-lossy", "pages noted only as a whole (lossy)"),
        ("nested-loop-remembering", "59,600 of 60,000 lookups answered from memory"),
    ],
)
def test_remarks_on_real_plans(major: int, name: str, words: str) -> None:
    assert any(words in each for each in said(major, name)), said(major, name)


@pytest.mark.parametrize("name", ["16-one-reading", "five-tables", "sort-few", "append"])
def test_nothing_is_said_where_there_is_nothing(name: str) -> None:
    assert said(18, name) == []


def _parallel(rows: list[float], whole: float) -> Node:
    workers = [
        {"Worker Number": n, "Actual Rows": each, "Actual Loops": 1} for n, each in enumerate(rows)
    ]
    loops = len(rows) + 1
    scan = step("Seq Scan", ms=5.0, seen=whole / loops, loops=loops)
    plan = plan_of({**scan, "Parallel Aware": True, "Workers": workers})
    return plan.root


def test_one_busy_process_among_idle_ones_is_told() -> None:
    assert busiest_share(_parallel([900.0, 50.0], 1_000.0)) == pytest.approx(0.9)
    (skewed,) = remarks(_parallel([900.0, 50.0], 1_000.0), str, True)
    assert "one of 3 processes had 90 % of the rows" in skewed
    assert list(remarks(_parallel([340.0, 330.0], 1_000.0), str, True)) == []
    leader = _parallel([10.0, 20.0], 1_000.0)
    assert busiest_share(leader) == pytest.approx(0.97), "what no helper had is the leader's"


def test_a_forbidden_method_and_pruning_at_the_start() -> None:
    scan = step("Seq Scan", Disabled=True)
    assert "switched off" in next(remarks(plan_of(scan).root, str, False))
    append = step("Append", step("Seq Scan"), Subplans_Removed=3)
    node = plan_of(append).root
    assert node.operation is Operation.APPEND
    assert list(remarks(node, str, False)) == ["3.0 inputs ruled out (pruned) before it began"]
