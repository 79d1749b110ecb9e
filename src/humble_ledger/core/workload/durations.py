"""Durations of many runs in little room: counts in buckets that are half a percent wide."""

from __future__ import annotations

import math
from collections.abc import Mapping

# Each bucket is 0.5 % wider than the one below, so a quantile is off by at most a quarter
# of a percent; eleven powers of ten (1 µs to 10⁵ s) then take 5,100 buckets, mostly empty.
STEP = math.log(1.005)
SMALLEST_MS = 0.001

Counts = Mapping[int, int]


def bucket_of(duration_ms: float) -> int:
    """The bucket of a duration in milliseconds; 0 takes all up to a microsecond."""
    if duration_ms <= SMALLEST_MS:
        return 0
    return int(math.log(duration_ms / SMALLEST_MS) / STEP) + 1


def middle_of(bucket: int) -> float:
    """The duration in the middle of a bucket, in milliseconds."""
    return SMALLEST_MS * math.exp((bucket - 0.5) * STEP) if bucket else 0.0


def quantile_bucket(counts: Counts, part: float) -> int:
    """The lowest bucket with at least ``part`` of the runs in it or below.

    Raises:
        ValueError: there are no runs.
    """
    whole = sum(counts.values())
    if not whole:
        raise ValueError("no runs")
    wanted = max(1, math.ceil(part * whole - 1e-9))
    passed = 0
    for bucket in sorted(counts):
        passed += counts[bucket]
        if passed >= wanted:
            return bucket
    raise AssertionError("unreachable: the last bucket completes the whole")


def coarse(counts: Counts, edges_ms: tuple[float, ...]) -> list[int]:
    """The runs between each two edges: below the first, …, from the last on."""
    found = [0] * (len(edges_ms) + 1)
    for bucket, count in counts.items():
        middle = middle_of(bucket)
        found[sum(middle >= edge for edge in edges_ms)] += count
    return found


def pack(counts: Counts) -> str:
    """Counts as short text, "1203:5 1207:1"."""
    return " ".join(f"{bucket}:{count}" for bucket, count in sorted(counts.items()))


def unpack_into(text: str, counts: dict[int, int]) -> None:
    """Add packed counts to others."""
    for pair in text.split():
        bucket, _, count = pair.partition(":")
        counts[int(bucket)] = counts.get(int(bucket), 0) + int(count)
