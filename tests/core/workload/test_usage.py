from __future__ import annotations

import statistics

import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_ledger.core.workload.durations import bucket_of, coarse, middle_of, pack, unpack_into
from humble_ledger.core.workload.usage import Usage, Work

DURATIONS = st.lists(st.floats(0.0005, 1e7), min_size=1, max_size=60)


@given(st.floats(0.002, 1e7))
def test_a_bucket_is_half_a_percent_wide(ms: float) -> None:
    assert middle_of(bucket_of(ms)) == pytest.approx(ms, rel=0.003)


@given(DURATIONS)
def test_counts_come_back_from_their_text(durations: list[float]) -> None:
    counts = dict(Usage.of_runs(durations).durations)
    found: dict[int, int] = {}
    unpack_into(pack(counts), found)
    assert found == counts
    assert sum(coarse(counts, (1.0, 100.0))) == len(durations)


@given(DURATIONS, DURATIONS)
def test_usage_adds_up(one: list[float], other: list[float]) -> None:
    both, whole = Usage.of_runs(one).plus(Usage.of_runs(other)), Usage.of_runs(one + other)
    assert both.calls == whole.calls
    assert both.total_ms == pytest.approx(whole.total_ms)
    assert both.max_ms == whole.max_ms == max(one + other)
    assert both.durations == whole.durations
    assert whole.deviation_ms == pytest.approx(
        statistics.pstdev(one + other), rel=1e-3, abs=1e-3 * max(one + other)
    )


@given(DURATIONS, st.sampled_from([0.5, 0.9, 0.95]))
def test_quantiles_are_close_to_the_exact_ones(durations: list[float], part: float) -> None:
    ordered = sorted(durations)
    exact = ordered[max(0, -(-round(part * len(ordered) * 1000) // 1000) - 1)]
    assert Usage.of_runs(durations).quantile_ms(part) == pytest.approx(exact, rel=0.006, abs=0.001)


def test_the_p95_of_one_run_is_that_run() -> None:
    assert Usage.of_runs([551.7]).p95_ms == 551.7
    assert Usage().p95_ms is None


def test_unknown_work_is_not_nothing() -> None:
    assert Work(rows=3).plus(Work()) == Work(rows=3)
    assert Work(rows=3, pages_read=5).minus(Work(rows=1)) == Work(rows=2)
    assert Work(rows=1).minus(Work(rows=3)).rows == 0
