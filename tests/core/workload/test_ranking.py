from __future__ import annotations

import pytest

from humble_ledger.core.workload.ranking import QueryRuns, RankBy, quantile, rank


def runs(id_: str, *durations: float) -> QueryRuns:
    return QueryRuns(id_, "f" * 16, "select", "select", durations)


QUERIES = [runs("q1", 10, 10, 10), runs("q2", 25), runs("q3", *[0.1] * 50), runs("q4")]


@pytest.mark.parametrize(
    ("by", "order"),
    [
        (RankBy.TOTAL, ["q1", "q2", "q3", "q4"]),
        (RankBy.MEAN, ["q2", "q1", "q3", "q4"]),
        (RankBy.MAX, ["q2", "q1", "q3", "q4"]),
        (RankBy.P95, ["q2", "q1", "q3", "q4"]),
        (RankBy.CALLS, ["q3", "q1", "q2", "q4"]),
    ],
)
def test_order(by: RankBy, order: list[str]) -> None:
    assert [r.query.id for r in rank(QUERIES, by)] == order


def test_shares_add_up() -> None:
    ranked = rank(QUERIES)
    assert sum(r.share for r in ranked) == pytest.approx(1)
    assert ranked[-1].running_share == pytest.approx(1)
    assert ranked[0].share == pytest.approx(0.5)
    assert rank([]) == []


@pytest.mark.parametrize(
    ("values", "part", "expected"),
    [
        ([1], 0.95, 1),
        ([1, 2], 0.5, 1),
        (range(1, 101), 0.95, 95),
        ([3, 1, 2], 1.0, 3),
        ([], 0.5, 0),
    ],
)
def test_quantile(values: list[float], part: float, expected: float) -> None:
    assert quantile(list(values), part) == expected
