"""What is sent when, and what is made of it."""

from __future__ import annotations

from collections import Counter
from itertools import islice

import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_ledger.core.replays.model import CapturedRun, ChangeWindow, Sent
from humble_ledger.core.replays.scheduling import by_session, closed_loop
from humble_ledger.core.replays.summing import by_second, errors, latency, phases
from humble_ledger.core.statements.kinds import Statement


def run(query: str, session: str = "s", at_s: float | None = 0.0, sql: str = "") -> CapturedRun:
    return CapturedRun(query, Statement(sql or f"SELECT '{query}'"), session, at_s)


def test_queries_are_drawn_as_often_as_they_were_called_and_the_same_by_the_same_seed() -> None:
    runs = [run("q1", sql="SELECT 1"), run("q1", sql="SELECT 2"), run("q2")]
    drawn = list(islice(closed_loop(runs, {"q1": 90, "q2": 10}, seed=3), 5_000))
    counts = Counter(due.run.query for due in drawn)
    assert counts["q2"] / 5_000 == pytest.approx(0.1, abs=0.02)
    values = Counter(due.run.statement.sql for due in drawn if due.run.query == "q1")
    assert values["SELECT 1"] / counts["q1"] == pytest.approx(0.5, abs=0.03)
    assert drawn and all(due.at_s is None for due in drawn)
    again = list(islice(closed_loop(runs, {"q1": 90, "q2": 10}, seed=3), 5_000))
    assert again == drawn
    assert list(islice(closed_loop(runs, {}, seed=4), 50)) != drawn[:50]


sessions = st.lists(
    st.tuples(st.sampled_from("abcde"), st.floats(0, 100, allow_nan=False)), min_size=1, max_size=40
)


@given(sessions, st.integers(1, 6), st.sampled_from([0.5, 1.0, 4.0]))
def test_each_session_keeps_its_order_and_its_client(
    sent: list[tuple[str, float]], clients: int, speed: float
) -> None:
    runs = [run(f"q{n}", session, at) for n, (session, at) in enumerate(sent)]
    shares = by_session(runs, clients, speed)
    assert len(shares) == clients
    found = [due for share in shares for due in share]
    assert sorted(due.run.query for due in found) == sorted(each.query for each in runs)
    for share in shares:
        moments = [due.at_s for due in share]
        assert moments == sorted(moments, key=lambda at: at or 0.0)
        assert all(due.at_s == (due.run.at_s or 0.0) / speed for due in share)
    owners = {(due.run.session, number) for number, share in enumerate(shares) for due in share}
    assert len(owners) == len({session for session, _ in sent})


def test_percentiles_leave_errors_out_and_count_them() -> None:
    runs = [Sent(1.0, "q1", float(ms)) for ms in range(1, 101)] + [Sent(1.0, "q1", 0.0, "broken")]
    found = latency(runs)
    assert (found.runs, found.errors, found.max_ms) == (101, 1, 100.0)
    assert found.p50_ms == pytest.approx(50.5) and found.p99_ms == pytest.approx(99.01)
    assert latency([Sent(1.0, "q", 0.0, "x")]).p50_ms is None
    assert errors([*runs, Sent(2.0, "q", 0.0, "broken"), Sent(2.0, "q", 0.0, "other")]) == (
        ("broken", 2), ("other", 1),
    )  # fmt: skip


moments = st.lists(
    st.tuples(st.floats(0.001, 9.99, allow_nan=False), st.floats(0.001, 900, allow_nan=False)),
    max_size=60,
)


@given(moments, st.floats(0, 9), st.floats(0, 3))
def test_every_run_is_in_one_phase_and_in_one_second(
    sent: list[tuple[float, float]], begun: float, took: float
) -> None:
    runs = [Sent(at, "q1", min(ms, at * 1000)) for at, ms in sent]
    window = ChangeWindow(begun, begun + took)
    parts = phases(runs, 10.0, window)
    assert sum(part.latency.runs for part in parts) == len(runs)
    assert sum(each.latency.runs for each in by_second(runs, 10.0)) == len(runs)
    assert [each.second for each in by_second(runs, 10.0)] == list(range(10))
    (whole,) = phases(runs, 10.0, None)
    assert whole.latency.runs == len(runs) and whole.per_second == pytest.approx(len(runs) / 10)


def test_a_run_under_way_when_the_change_comes_belongs_to_neither_side() -> None:
    window = ChangeWindow(4.0, 6.0)
    runs = [Sent(3.9, "q1", 100), Sent(4.1, "q1", 200), Sent(6.5, "q1", 1_000), Sent(8, "q1", 50)]
    before, during, after = phases(runs, 10.0, window)
    assert [p.latency.runs for p in (before, during, after)] == [1, 2, 1]
    assert dict(after.queries)["q1"].p50_ms == 50
