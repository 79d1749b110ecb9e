"""What writes cost with an index and without it, judged from paired batches."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass

from humble_ledger.core.trials.ratio import RatioInterval, ratio_interval

ERROR_RATE = 0.05


@dataclass(frozen=True, slots=True)
class WriteCost:
    """One kind of write: medians of a batch in milliseconds, and with/without over pairs.

    ``operation`` is insert, update or delete; ``columns`` are those an update set.
    """

    operation: str
    without_ms: float
    with_ms: float
    ratio: RatioInterval | None
    columns: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class MeasuredWriteOverhead:
    """What one remedy's index costs writers of a table, measured on rolled-back copies.

    ``rows`` are written in a batch, ``copied_rows`` were in each copy; ``unknown`` says why
    nothing could be measured.
    """

    remedy: str
    table: str
    rows: int = 0
    copied_rows: int = 0
    costs: tuple[WriteCost, ...] = ()
    unknown: str = ""


def write_cost(
    operation: str,
    without: Sequence[float],
    with_index: Sequence[float],
    columns: tuple[str, ...] = (),
) -> WriteCost:
    """Judge the pairs of one kind of write; milliseconds of batches, in pairs."""
    return WriteCost(
        operation,
        statistics.median(without),
        statistics.median(with_index),
        ratio_interval(without, with_index, ERROR_RATE),
        columns,
    )
