from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest

from humble_ledger.core.workload.statistics import StatementCounters, StatisticsLook, difference
from humble_ledger.core.workload.usage import Work
from humble_ledger.views.wording import in_words

BEGAN = datetime(2026, 3, 1, 8, tzinfo=UTC)
TEN = BEGAN + timedelta(hours=2)


def counters(key: str, calls: int, mean: float, most: float | None = None) -> StatementCounters:
    work = Work(rows=calls * 2.0)
    return StatementCounters(
        key, f"select {key}", "me", "skerry", calls, calls * mean, mean, 0.0, most or mean, work
    )


def look(*statements: StatementCounters, at: datetime = TEN, evictions: int = 0) -> StatisticsLook:
    return StatisticsLook(at, statements, BEGAN, evictions)


def test_the_first_look_takes_all_and_says_so() -> None:
    found = difference(None, look(counters("a", 3, 5.0)))
    (use,) = found.uses
    assert (use.usage.calls, use.usage.total_ms, use.usage.max_ms) == (3, 15.0, 5.0)
    assert use.since == BEGAN
    assert "first look" in in_words(found.notes[0])


def test_only_what_was_added_counts() -> None:
    before = look(counters("a", 3, 5.0), counters("b", 9, 1.0))
    now = look(counters("a", 5, 6.0, 20.0), counters("b", 9, 1.0), at=TEN + timedelta(hours=1))
    found = difference(before, now)
    (use,) = found.uses
    assert use.statement.key == "a"
    assert (use.usage.calls, use.usage.total_ms) == (2, 15.0)
    assert use.usage.max_ms == 20.0, "a new record was set in this window"
    assert use.usage.work.rows == 4.0
    assert use.since == TEN
    assert found.notes == ()


def test_a_maximum_of_long_ago_is_not_of_this_window() -> None:
    before, now = look(counters("a", 3, 5.0, 90.0)), look(counters("a", 4, 5.0, 90.0))
    assert difference(before, now).uses[0].usage.max_ms is None


def test_a_reset_is_noticed() -> None:
    before = look(counters("a", 300, 5.0))
    later = TEN + timedelta(minutes=30)
    now = replace(look(counters("a", 400, 5.0), at=TEN + timedelta(hours=1)), reset_at=later)
    found = difference(before, now)
    assert found.uses[0].usage.calls == 400
    assert "reset at 2026-03-01 10:30:00" in in_words(found.notes[0])


def test_a_statement_that_was_forgotten_begins_anew() -> None:
    found = difference(look(counters("a", 300, 5.0)), look(counters("a", 7, 5.0), evictions=4))
    assert found.uses[0].usage.calls == 7
    told = [in_words(note) for note in found.notes]
    assert any("4 times" in note for note in told)
    assert any("one statement began anew" in note for note in told)


def test_the_spread_of_the_added_runs() -> None:
    one = replace(counters("a", 2, 10.0), deviation_ms=0.0)
    both = replace(counters("a", 4, 20.0), deviation_ms=10.0)  # 10, 10, 30, 30
    usage = difference(look(one), look(both)).uses[0].usage
    assert usage.mean_ms == pytest.approx(30.0)
    assert usage.deviation_ms == pytest.approx(0.0, abs=1e-6)
