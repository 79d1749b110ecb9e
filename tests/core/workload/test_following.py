"""How far a followed statement is."""

from __future__ import annotations

import pytest

from humble_ledger.core.plans.model import Node, Operation, Plan, Role
from humble_ledger.core.workload.following import Done, percent_of, rows_so_far, rows_to_come


def _plan() -> Plan:
    outer = Node(2, Operation.FULL_SCAN, "Scan", rows_expected=100.0, rows_seen=40.0, loops=1.0)
    inner = Node(
        3, Operation.INDEX_SCAN, "Search", role=Role.INNER, rows_expected=5.0, rows_seen=4.0,
        loops=40.0,
    )  # fmt: skip
    join = Node(
        1, Operation.NESTED_LOOP, "Loop", rows_expected=500.0, rows_seen=160.0, loops=1.0,
        children=(outer, inner),
    )  # fmt: skip
    return Plan("x", "1", join, measured=True)


def test_rows_are_told_over_all_loops_and_expected_for_all_rows_of_the_outer_side() -> None:
    assert rows_so_far(_plan()) == {1: 160.0, 2: 40.0, 3: 160.0}
    assert rows_to_come(_plan()) == {1: 500.0, 2: 100.0, 3: 500.0}


@pytest.mark.parametrize(
    ("rows", "expected", "percent"),
    [(40.0, 100.0, 40.0), (100.0, 100.0, 100.0), (130.0, 100.0, None), (1.0, None, None),
     (1.0, 0.0, None)],
)  # fmt: skip
def test_more_than_was_expected_is_no_percentage(
    rows: float, expected: float | None, percent: float | None
) -> None:
    assert percent_of(rows, expected) == percent


def test_counts_are_words() -> None:
    assert Done("blocks", 1200.0, 4000.0).words == "blocks 1,200 of 4,000"
    assert Done("rows", 7.0).words == "rows 7"
