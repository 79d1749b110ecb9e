"""Runs counted many at once come to the same as one by one."""

from __future__ import annotations

from math import nan

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_ledger.core.workload.counting import Runs, places_in_group
from humble_ledger.core.workload.gathering import (
    KEPT_WHOLE,
    RARELY_KEPT,
    SLOWEST_KEPT,
    Gathering,
    Harvest,
)

CLIENTS = [("me", "skerry", "app"), ("you", "skerry", "app"), ("me", "skerry", "batch")]
RUN = st.tuples(
    st.integers(0, 4),
    st.integers(0, 2),
    st.one_of(st.none(), st.floats(1.7e9, 1.7e9 + 400)),
    st.one_of(st.just(0.0), st.floats(0.0005, 60_000.0)),
)
Run = tuple[int, int, float | None, float]


def many(gathering: Gathering, runs: list[Run]) -> list[int]:
    groups, clients, ends, durations = zip(*runs, strict=True)
    columns = Runs(
        np.array(groups, np.int64),
        np.array(clients, np.int64),
        np.array([nan if end is None else end for end in ends]),
        np.array(durations, float),
    )
    return gathering.count_many(columns, CLIENTS)


def one_by_one(gathering: Gathering, runs: list[Run]) -> list[int]:
    return [
        place
        for place, (group, client, end, ms) in enumerate(runs)
        if gathering.count(group, CLIENTS[client], end, ms)
    ]


def told(harvest: Harvest) -> dict[object, object]:
    """The periods, without their order."""
    return {
        (p.group, p.client, None if p.first_s is None else int(p.first_s // 60)): (
            p.usage.calls,
            pytest.approx(p.usage.total_ms),
            pytest.approx(p.usage.squares_ms2),
            p.usage.max_ms,
            p.usage.durations,
            p.first_s,
            p.last_s,
        )
        for p in harvest.periods
    }


@given(st.lists(st.lists(RUN, min_size=1, max_size=60), min_size=1, max_size=4))
def test_many_at_once_are_counted_as_one_by_one(blocks: list[list[Run]]) -> None:
    at_once, singly = Gathering(), Gathering()
    for block in blocks:
        assert many(at_once, block) == one_by_one(singly, block)
    assert told(at_once.harvest()) == told(singly.harvest())
    assert at_once.kept == singly.kept


def test_of_very_many_some_are_kept_and_always_the_slowest() -> None:
    gathering = Gathering()
    kept = 0
    for block in range(30):
        runs: list[Run] = [(0, 0, None, 1.0 + (n * 7919) % 1000) for n in range(1_000)]
        if block == 29:
            runs[500:600] = [(0, 0, None, 5_000.0 + n) for n in range(100)]
        places = many(gathering, runs)
        kept += len(places)
        if block == 0:
            assert places == list(range(1_000))
        if block == 29:
            assert set(range(500, 600)) <= set(places)
    most = KEPT_WHOLE + 4 * RARELY_KEPT + 12 * SLOWEST_KEPT
    assert KEPT_WHOLE < kept < most


@given(st.lists(st.integers(0, 5), max_size=50))
def test_the_place_of_a_run_in_its_group(groups: list[int]) -> None:
    expected = [groups[:place].count(group) for place, group in enumerate(groups)]
    assert places_in_group(np.array(groups, np.int64)).tolist() == expected
