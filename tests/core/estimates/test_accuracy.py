from __future__ import annotations

import pytest

from humble_ledger.core.estimates.accuracy import origins, row_error
from tests.plans import plan_of, recorded, step


@pytest.mark.parametrize(
    ("expected", "seen", "factor", "under"),
    [
        (10, 100, 10, True),
        (100, 10, 10, False),
        (1, 0, 2, False),
        (0, 5, 10, True),
        (7, 7, 1, False),
    ],
)
def test_the_factor(expected: float, seen: float, factor: float, under: bool) -> None:
    error = row_error(plan_of(step("Seq Scan", rows=expected, seen=seen, ms=1.0)).root)
    assert error is not None
    assert (error.factor, error.under) == (pytest.approx(factor), under)


def test_an_estimate_alone_shows_no_error() -> None:
    assert row_error(plan_of(step("Seq Scan")).root) is None
    assert origins(plan_of(step("Seq Scan", rows=1_000_000))) == []


def test_the_origin_is_the_lowest_step_that_is_off() -> None:
    scan = step("Seq Scan", rows=5, seen=5000, ms=1.0)
    other = step("Seq Scan", rows=10, seen=10, ms=1.0)
    plan = plan_of(step("Hash Join", scan, other, rows=5, seen=5000, ms=3.0))
    assert [e.node.no for e in origins(plan)] == [2]


def test_what_a_limit_cut_short_is_no_error() -> None:
    scan = step("Seq Scan", rows=100_000, seen=5, ms=1.0)
    assert origins(plan_of(step("Limit", scan, rows=5, seen=5, ms=1.0))) == []
    sort = step("Sort", step("Seq Scan", rows=10, seen=9000, ms=1.0), rows=10, seen=5, ms=1.0)
    assert [e.node.no for e in origins(plan_of(step("Limit", sort, rows=5, seen=5, ms=1.0)))] == [3]


@pytest.mark.parametrize("major", [15, 18])
def test_on_recorded_plans(major: int) -> None:
    crew = origins(recorded(major, "05-alerts-of-a-crew"))
    assert [(e.node.relation, e.under) for e in crew] == [("alert", True)]
    assert origins(recorded(major, "17-a-day-of-a-buoy")) == []
    assert origins(recorded(major, "limit-stops-early")) == []
