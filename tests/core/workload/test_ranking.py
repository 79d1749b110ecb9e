from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from humble_ledger.core.workload.ranking import QueryRuns, RankBy, rank
from humble_ledger.core.workload.usage import Usage
from humble_ledger.core.workload.windows import names_table, parse_moment
from humble_ledger.errors import WrongUsage


def runs(id_: str, *durations: float) -> QueryRuns:
    return QueryRuns(id_, "f" * 16, "select", Usage.of_runs(durations))


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


NOW = datetime(2026, 3, 1, 12, tzinfo=UTC)


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("90s", NOW - timedelta(seconds=90)),
        ("30m", NOW - timedelta(minutes=30)),
        ("1.5 h", NOW - timedelta(minutes=90)),
        ("3d", NOW - timedelta(days=3)),
        ("2026-02-03", datetime(2026, 2, 3, tzinfo=UTC)),
        ("2026-02-03 10:30", datetime(2026, 2, 3, 10, 30, tzinfo=UTC)),
        ("2026-02-03T10:30+02:00", datetime(2026, 2, 3, 8, 30, tzinfo=UTC)),
    ],
)
def test_moments(text: str, expected: datetime) -> None:
    assert parse_moment(text, NOW) == expected


@pytest.mark.parametrize("text", ["soon", "", "3x", "2026-13-01"])
def test_what_is_no_moment(text: str) -> None:
    with pytest.raises(WrongUsage, match="no moment"):
        parse_moment(text, NOW)


@pytest.mark.parametrize(
    ("sql", "table", "named"),
    [
        ("SELECT 1 FROM reading r", "reading", True),
        ('SELECT 1 FROM "Reading"', "reading", True),
        ("SELECT 1 FROM sea.reading", "sea.reading", True),
        ("SELECT 1 FROM readings", "reading", False),
        ("SELECT 'reading' FROM t", "reading", False),
    ],
)
def test_tables_by_name(sql: str, table: str, named: bool) -> None:
    assert names_table(sql, table) is named
