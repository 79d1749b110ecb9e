"""How long building an index should take: by builds measured on this target, else a range.

Building sorts the rows, so the time is taken to grow as n log2 n.
"""

from __future__ import annotations

import math
import statistics
from collections.abc import Sequence
from dataclasses import dataclass

# Nanoseconds for each row and each doubling, from fast machines with short keys to slow ones
# with long keys; a range that is told as one.
FASTEST_NS, SLOWEST_NS = 10.0, 150.0
SPREAD = 2.0  # by which builds on one server differ with the keys' kinds


@dataclass(frozen=True, slots=True)
class Build:
    """One build that was measured: rows of the table, and milliseconds."""

    rows: float
    took_ms: float


def build_range_ms(rows: float, measured: Sequence[Build] = ()) -> tuple[float, float, bool]:
    """(least, most, whether measured builds on this target stand behind it), in ms."""
    work = _work(rows)
    speeds = [build.took_ms / _work(build.rows) for build in measured if build.rows >= 1_000]
    if not speeds:
        return work * FASTEST_NS / 1e6, work * SLOWEST_NS / 1e6, False
    usual = statistics.median(speeds)
    return work * usual / SPREAD, work * usual * SPREAD, True


def _work(rows: float) -> float:
    rows = max(rows, 2.0)
    return rows * math.log2(rows)
