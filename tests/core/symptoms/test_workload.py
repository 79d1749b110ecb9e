"""Symptoms of runs: values, plans that flipped, locks, and where the time is."""

from __future__ import annotations

import pytest

from humble_ledger.core.symptoms.in_workload.blocking import (
    Blockade,
    blocked_symptom,
    blocking_symptom,
    incident_symptoms,
)
from humble_ledger.core.symptoms.in_workload.concentration import concentration_symptom
from humble_ledger.core.symptoms.in_workload.flips import Sighting, flip_symptom
from humble_ledger.core.symptoms.in_workload.values import PlannedFor, value_symptom
from humble_ledger.core.workload.incidents import Incident, IncidentKind
from humble_ledger.core.workload.ranking import QueryRuns, rank
from humble_ledger.core.workload.usage import Usage
from humble_ledger.core.workload.values import SlowValue


def seen(plan: int, shape: str, ms: float | None, values: str = "a") -> Sighting:
    return Sighting(f"p{plan}", f"2026-07-{plan:02}T10:00", shape, ms, values, f"way {shape}")


@pytest.mark.parametrize(
    ("sightings", "flipped"),
    [
        ([seen(1, "x", 5), seen(2, "y", 50)], True),
        ([seen(1, "x", 5), seen(2, "x", 6), seen(3, "y", 50), seen(4, "y", 51)], True),
        ([seen(1, "x", 5, "a"), seen(2, "x", 6, "b"), seen(3, "y", 5, "c"), seen(4, "y", 5, "d")],
         True),
        ([seen(1, "x", 5), seen(2, "x", 6)], False),
        ([seen(1, "x", 5, "a"), seen(2, "y", 50, "b")], False),  # another value, another plan
        ([seen(1, "x", 5), seen(2, "y", 50), seen(3, "x", 5), seen(4, "y", 50)], False),
        ([seen(1, "x", 5)], False),
        ([], False),
    ],
)  # fmt: skip
def test_a_plan_flipped_when_it_changed_for_good(sightings: list[Sighting], flipped: bool) -> None:
    assert (flip_symptom(sightings, 10) is not None) == flipped


def test_a_flip_tells_both_times_and_costs_what_it_added() -> None:
    found = flip_symptom([seen(2, "y", 55.0), seen(1, "x", 5.0)], 10)
    assert found is not None
    told = found.summary.arguments
    assert (told["plan"], told["before_ms"], told["since_ms"]) == ("p2", 5.0, 55.0)
    assert found.cost_ms == pytest.approx(500.0)
    assert not found.harmless


def test_a_flip_for_the_better_is_harmless() -> None:
    found = flip_symptom([seen(1, "x", 55.0), seen(2, "y", 5.0)], 10)
    assert found is not None
    assert found.harmless
    assert found.cost_ms is None


SLOW = [("buoy_id", SlowValue(0, "7", 4, 60.0, 5.0)), ("buoy_id", SlowValue(0, "61", 4, 58.0, 5.0))]


def test_values_unlike_others_are_told_with_what_the_planner_expects_of_them() -> None:
    same = PlannedFor(76_000, 2_800, True, "a scan", "a scan")
    found = value_symptom(SLOW, same)
    assert found is not None
    assert found.cost_ms == pytest.approx(4 * 55 + 4 * 53)
    assert found.cause.name == "value-with-many-rows"
    why, told = found.cause.detail.arguments, found.summary.arguments
    assert (why["rows"], why["other_rows"], why["other_way"]) == (76_000, 2_800, None)
    assert (told["place"], told["values"]) == ("buoy_id", ("7", "61"))


def test_values_are_not_blamed_on_rows_the_planner_expects_of_both() -> None:
    found = value_symptom(SLOW, PlannedFor(2_900, 2_800, True, "a scan", "a scan"))
    assert found is not None
    assert found.cause.name == "value-unlike-others"
    assert value_symptom([], None) is None


def test_short_waits_for_locks_are_part_of_life() -> None:
    assert blocked_symptom([Blockade("q1", "q2", 20.0, "transaction")]) is None
    assert blocking_symptom([Blockade("q1", "q2", 20.0, "transaction")]) is None


def test_blocked_and_blocking_queries_name_each_other() -> None:
    waits = [Blockade("q1", "q2", 900.0, "transaction", idle=True)]
    blocked, blocking = blocked_symptom(waits), blocking_symptom(waits)
    assert blocked is not None
    assert blocking is not None
    told = blocked.summary.arguments
    assert (told["most_ms"], told["blocker"]) == (900.0, "q2")
    assert blocked.cost_ms == 900.0
    assert blocking.cause.name == "transaction-left-open"
    assert blocking.summary.arguments["queries"] == ("q1",)


def incident(kind: IncidentKind, amount: float | None = None) -> Incident:
    return Incident(kind, "2026-07-01T10:00", "77", amount, "")


def test_a_wait_that_is_logged_twice_counts_once() -> None:
    waits = [
        incident(IncidentKind.LOCK_WAIT, 1000.0),
        incident(IncidentKind.LOCK_WAITED, 1500.0),
        incident(IncidentKind.LOCK_TIMEOUT),
    ]
    (found,) = incident_symptoms(waits, "q9")
    assert found.cost_ms == 1500.0
    assert found.summary.arguments["given_up"] == 1
    assert found.cause.detail.arguments["blockers"] == "q9"


def test_temporary_files_are_summed_up() -> None:
    files = [incident(IncidentKind.TEMPORARY_FILE, n * 1024.0 * 1024.0) for n in (3, 5)]
    (found,) = incident_symptoms(files, "")
    assert found.name == "writes-temporary-files"
    mib = 1024 * 1024
    assert found.summary.arguments == {"files": 2, "written_bytes": 8 * mib, "most_bytes": 5 * mib}
    assert incident_symptoms([incident(IncidentKind.CHECKPOINT, 5.0)], "") == []


def ranked(*totals: float) -> object:
    return rank(QueryRuns(f"q{n}", "", "", Usage.of_runs([t])) for n, t in enumerate(totals, 1))


@pytest.mark.parametrize(
    ("totals", "told"),
    [
        ((100, *[5] * 11), ("q1",)),
        ((60, 50, *[5] * 14), ("q1", "q2")),
        ((10,) * 12, ()),
        ((100, 1, 1), ()),  # of three queries one is not few
    ],
)
def test_time_in_few_queries_is_told_when_few_take_half(
    totals: tuple[float, ...], told: tuple[str, ...]
) -> None:
    found = concentration_symptom(ranked(*totals))  # type: ignore[arg-type]
    assert (found.summary.arguments["queries"] if found else ()) == told
