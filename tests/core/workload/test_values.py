from __future__ import annotations

import pytest

from humble_ledger.core.entries import PeriodEntry
from humble_ledger.core.results.spans import in_spans
from humble_ledger.core.statements.wording import HOLE
from humble_ledger.core.workload.values import ValuedRun, places_of, slow_values


def test_the_value_that_is_slow_is_named() -> None:
    runs = [ValuedRun(200.0, ("7", "x"))] * 4 + [ValuedRun(5.0, (str(n), "x")) for n in range(9)]
    (found,) = slow_values(runs)
    assert (found.place, found.value, found.runs) == (0, "7", 5)
    assert found.ratio == pytest.approx(40)


@pytest.mark.parametrize(
    "runs",
    [
        [],
        [ValuedRun(5.0, ("1",))] * 9,
        [ValuedRun(5.0 + n % 3, (str(n % 2),)) for n in range(20)],
        [ValuedRun(500.0, ("77",))] * 2 + [ValuedRun(5.0, (str(n),)) for n in range(9)],
        [ValuedRun(0.05, ("77",))] * 9 + [ValuedRun(0.01, (str(n),)) for n in range(9)],
    ],
    ids=["nothing", "one value", "alike", "too few", "too quick to matter"],
)
def test_no_value_is_blamed_without_reason(runs: list[ValuedRun]) -> None:
    assert slow_values(runs) == []


@pytest.mark.parametrize(
    ("wording", "names"),
    [
        ("select a from t where sensor_id = ? and taken_at >= ?", ["sensor_id", "taken_at"]),
        ("select a from t where b = $1 limit $2", ["b", "limit"]),
        ("select a from t where a between ? and ?", ["a", "a"]),
        ("select a from t where status in (?, ?, ?)", ["status"] * 3),
        ('select a from t where "Kind" = ?', ["Kind"]),
        ("select ?", ["value 1"]),
        ("select a from t where lower(a) like ?", ["a"]),
    ],
)
def test_places_have_the_names_of_their_columns(wording: str, names: list[str]) -> None:
    assert [place.name for place in places_of(wording.replace("?", HOLE))] == names


def test_values_come_from_literals_and_parameters() -> None:
    first, second = places_of(f"select a from t where a = {HOLE} and b = $1")
    assert first.value(["'x'"], ("y",)) == "x"
    assert second.value(["'x'"], ("y",)) == "y"
    assert second.value(["'x'"], ()) is None


def test_spans_of_time_are_round_and_complete() -> None:
    periods = [PeriodEntry(f"2026-03-01T1{hour}:20:00+00:00", None, 2, 10.0) for hour in (0, 1, 5)]
    assert in_spans(periods, 12) == [
        (f"2026-03-01 1{hour}:00", calls, total)
        for hour, calls, total in [
            (0, 2, 10.0), (1, 2, 10.0), (2, 0, 0.0), (3, 0, 0.0), (4, 0, 0.0), (5, 2, 10.0),
        ]
    ]  # fmt: skip
    assert in_spans([PeriodEntry(None, None, 1, 1.0)], 12) == []
