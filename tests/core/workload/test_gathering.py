from __future__ import annotations

from humble_ledger.core.workload.gathering import KEPT_WHOLE, SLOWEST_KEPT, Gathering, RunSeen
from humble_ledger.core.workload.repetition import FEWEST, RepetitionWatch

ME = ("me", "skerry", "app")


def test_every_run_counts_and_memory_stays_small() -> None:
    gathering = Gathering()
    group = gathering.groups.of("select ?", "select 1")
    kept: list[float] = []
    for n in range(60_000):
        ms = 1.0 + n % 7 if n != 55_555 else 900.0
        if gathering.count(group, ME, 1_772_359_200.0 + n / 100, ms):
            kept.append(ms)
            gathering.keep(RunSeen(group, "select ?", ("1",), (), ME, "1", None, ms))
    found = gathering.harvest()
    assert sum(period.usage.calls for period in found.periods) == 60_000
    assert len(found.periods) == 11, "one for each minute, the first of them not whole"
    assert len(kept) == len(found.runs) < KEPT_WHOLE * 1.5
    assert len(kept) > KEPT_WHOLE
    assert 900.0 in kept, "a slow run is never left out"
    assert gathering.harvest().periods == []


def test_the_slowest_are_kept_however_many_there_were() -> None:
    gathering = Gathering()
    for _ in range(KEPT_WHOLE * 2):
        gathering.count(0, ME, None, 1.0)
    assert all(gathering.count(0, ME, None, 100.0 + n) for n in range(SLOWEST_KEPT))


def test_periods_begin_when_runs_began() -> None:
    gathering = Gathering()
    gathering.count(0, ME, 120.5, 1000.0)
    (period,) = gathering.harvest().periods
    assert (period.first_s, period.last_s) == (119.5, 119.5)
    gathering.count(0, ME, None, 1000.0)
    (period,) = gathering.harvest().periods
    assert period.first_s is None


def watched(
    times: int, *, gap_s: float = 0.01, ms: float = 1.0, between: int = 0, values: int = 10**9
) -> dict[int, object]:
    watch = RepetitionWatch()
    now = 0.0
    for n in range(times):
        now += gap_s
        watch.saw(1, "s", now, ms, n % values)
        for other in range(between):
            watch.saw(2 + other, "s", now, ms, 0)
    return dict(watch.finish())


def test_a_loop_is_found_and_what_looks_like_one_is_not() -> None:
    (found,) = watched(FEWEST).values()
    assert (found.calls, found.bursts, found.unchanged) == (FEWEST, 1, 0)  # type: ignore[attr-defined]
    assert watched(FEWEST - 1) == {}
    assert watched(100, gap_s=2.0) == {}, "now and then is no loop"
    assert watched(100, ms=500.0) == {}, "the trouble of a slow statement is another one"
    assert 1 in watched(100, between=2), "a loop's body may have more statements"
    assert watched(100, between=9) == {}


def test_repeating_the_same_values_is_told_apart() -> None:
    (found,) = watched(100, values=5).values()
    assert found.unchanged == 95  # type: ignore[attr-defined]


def test_each_session_has_its_own_loop() -> None:
    watch = RepetitionWatch()
    for n in range(FEWEST * 10):
        watch.saw(1, f"session {n % 20}", n / 1000, 1.0, n)
    assert watch.finish() == {}, "one session did not send enough"
