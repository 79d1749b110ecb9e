"""Counting many runs at once, with NumPy: the same sums as one by one, ten times as quick."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from humble_ledger.core.workload.durations import SMALLEST_MS, STEP

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Runs:
    """Runs in columns, an element of each array for each run.

    ``groups`` and ``clients`` are numbers from 0, ``ends`` seconds since 1970 (NaN unknown),
    ``durations`` ms.
    """

    groups: Ints
    clients: Ints
    ends: Floats
    durations: Floats


@dataclass(frozen=True, slots=True)
class PeriodSums:
    """What the runs of one group and client within a minute come to.

    ``minute`` counts from 1970, None when the times are unknown.
    """

    group: int
    client: int
    minute: int | None
    calls: int
    total_ms: float
    squares_ms2: float
    slowest_ms: float
    first_s: float
    last_s: float


@dataclass(frozen=True, slots=True)
class Counted:
    """The sums of each group, client and minute in which runs began.

    ``which`` is the place of each run's sums, ``buckets`` its bucket of `durations`.
    """

    sums: list[PeriodSums]
    which: Ints
    buckets: Ints


def counted(runs: Runs) -> Counted:
    """Runs summed up by group, client and minute."""
    durations = runs.durations
    starts = runs.ends - durations / 1000.0
    timed = ~np.isnan(starts)
    kinds, which = _kinds(runs, starts, timed)
    number = len(kinds)
    calls = np.bincount(which, minlength=number)
    totals = np.bincount(which, durations, number)
    squares = np.bincount(which, durations * durations, number)
    slowest = np.zeros(number)
    np.maximum.at(slowest, which, durations)
    first, last = np.full(number, np.inf), np.full(number, -np.inf)
    np.minimum.at(first, which[timed], starts[timed])
    np.maximum.at(last, which[timed], starts[timed])
    sums = [
        PeriodSums(
            group, client, minute, int(calls[n]), float(totals[n]), float(squares[n]),
            float(slowest[n]), float(first[n]), float(last[n]),
        )
        for n, (group, client, minute) in enumerate(kinds)
    ]  # fmt: skip
    return Counted(sums, which, _buckets(durations))


def pair_counts(pairs: Sequence[tuple[Ints, Ints]]) -> Iterator[tuple[int, int, int]]:
    """(one, other, how often) of pairs of numbers from 0, given as arrays of ones and others."""
    ones = np.concatenate([one for one, _ in pairs])
    others = np.concatenate([other for _, other in pairs])
    width = int(others.max()) + 1
    found, times = np.unique(ones * width + others, return_counts=True)
    for both, many in zip(found.tolist(), times.tolist(), strict=True):
        yield (*divmod(both, width), many)


def places_in_group(groups: Ints) -> Ints:
    """For each run how many runs of its group stand before it."""
    order = np.argsort(groups, kind="stable")
    ordered = groups[order]
    begins = np.searchsorted(ordered, ordered)
    places = np.empty(len(groups), np.int64)
    places[order] = np.arange(len(groups)) - begins
    return places


def _kinds(
    runs: Runs, starts: Floats, timed: npt.NDArray[np.bool_]
) -> tuple[list[tuple[int, int, int | None]], Ints]:
    """The kinds of runs (group, client, minute), and which of these each run is."""
    # One number for all three, because sorting numbers is ten times as quick as rows.
    minutes = np.zeros(len(starts), np.int64)  # 0 for those whose time is unknown
    first = 0
    if timed.any():
        known = np.floor(starts[timed] / 60.0).astype(np.int64)
        first = int(known.min()) - 1
        minutes[timed] = known - first
    span, clients = int(minutes.max()) + 1, int(runs.clients.max()) + 1
    numbers, which = np.unique(
        (runs.groups * clients + runs.clients) * span + minutes, return_inverse=True
    )
    kinds: list[tuple[int, int, int | None]] = []
    for each in numbers.tolist():
        who, minute = divmod(each, span)
        group, client = divmod(who, clients)
        kinds.append((group, client, minute + first if minute else None))
    return kinds, which


def _buckets(durations: Floats) -> Ints:
    """The bucket of `durations` of each."""
    buckets = np.zeros(len(durations), np.int64)
    long = durations > SMALLEST_MS
    buckets[long] = (np.log(durations[long] / SMALLEST_MS) / STEP).astype(np.int64) + 1
    return buckets
