"""Rows like the target's, as many as it has, out of a sample of them.

Each sampled row stands for several. Those that are made beside it have the same values in columns
of few values, and values between it and the next one in columns where the target has more
values than were sampled: so the entries between two values are about as many as on the target.
"""

from __future__ import annotations

import bisect
import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from humble_ledger.core.costs.model import KeySample
from humble_ledger.engines.mysql.hollow.source import Column, SourceTable
from humble_ledger.engines.mysql.naming import quoted

MORE_THAN_SEEN = 1.15  # times the values of the sample: so many a column must have for new ones
_NEARLY_ALL = 0.9
WHOLE = ("tinyint", "smallint", "mediumint", "int", "bigint")
BROKEN = ("decimal", "float", "double")
MOMENTS = ("date", "datetime", "timestamp")
TEXTS = ("char", "varchar", "tinytext", "text", "mediumtext", "longtext")
BYTES = ("binary", "varbinary", "blob", "tinyblob", "mediumblob", "longblob")
_CHANGED = frozenset((*WHOLE, *BROKEN, *MOMENTS, *TEXTS, *BYTES, "uuid"))
_EPOCH = datetime(1970, 1, 1)


@dataclass(frozen=True, slots=True)
class Made:
    """How a column's value is made in row number ``s.n`` beside a sampled one.

    ``expression`` refers to the sample's row as ``p``; ``gaps`` are what each sampled row needs
    for it beside its value, () for nothing.
    """

    expression: str
    gaps: Sequence[float] = ()


def ways(
    table: SourceTable, sample: Sequence[tuple[Any, ...]], times: int, rows: float
) -> list[Made]:
    """For each column how its value is made in the rows beside a sampled one."""
    found, many = [], set()
    for place, column in enumerate(table.columns):
        values = [row[place] for row in sample]
        more = _more_values(values, rows)
        if more >= _NEARLY_ALL * times and column.kind in _CHANGED:
            many.add(column.name)
        if table.primary == (column.name,) and column.kind in WHOLE and values:
            found.append(_evenly(column, values, times))
            many.add(column.name)
        else:
            found.append(_between(column, place, values, more, times))
    for key in table.unique:
        if not many & set(key):  # or the rows beside a sampled one would be the same to it
            place = next(n for n, c in enumerate(table.columns) if c.name == key[-1])
            values = [row[place] for row in sample]
            found[place] = _apart(table.columns[place], values)
            many.add(key[-1])
    return found


def surely_unique(table: SourceTable) -> bool:
    """Whether no two rows that are made can have the same key."""
    numbers = {column.name for column in table.columns if column.kind in WHOLE}
    return not table.unique or (len(table.unique) == 1 and table.primary in {(n,) for n in numbers})


def _more_values(values: Sequence[Any], rows: float) -> float:
    """How many times as many values the whole column has as the sample."""
    there = [(number, 0, value) for number, value in enumerate(values) if value is not None]
    if not there:
        return 1.0
    entries = rows * len(there) / len(values)
    seen = KeySample.of(there, len(values), 0, whole=False)
    return max(1.0, seen.distinct(max(1.0, entries)) / max(1, seen.distinct_seen))


def _evenly(column: Column, values: Sequence[int], times: int) -> Made:
    """Numbers of a key spread evenly, in the order that the sample has."""
    low, high = min(values), max(values)
    step = max(1.0, (high - low + 1) / (len(values) * times))
    return Made(f"{low} + FLOOR((p.humble_no * {times} + s.n) * {step!r})")


def _between(column: Column, place: int, values: Sequence[Any], more: float, times: int) -> Made:
    name = f"p.{quoted(column.name)}"
    if more < MORE_THAN_SEEN:
        return Made(name)
    each = float(times) if more >= _NEARLY_ALL * times else more  # values beside one that was seen
    part = f"(FLOOR(s.n * {each / times!r}) / {each!r})"
    gap = f"p.humble_gap_{place}"
    if column.kind in WHOLE:
        return Made(f"{name} + FLOOR({gap} * {part})", _gaps(values, float))
    if column.kind in BROKEN:
        return Made(f"{name} + {gap} * {part}", _gaps(values, float))
    if column.kind in MOMENTS:
        unit = "DAY" if column.kind == "date" else "SECOND"
        seconds = _gaps(values, _seconds)
        gaps = [each / 86_400 for each in seconds] if unit == "DAY" else seconds
        return Made(f"{name} + INTERVAL FLOOR({gap} * {part}) {unit}", gaps)
    number = f"FLOOR(s.n * {each / times!r})"
    if column.kind in TEXTS:
        return Made(f"IF({number} = 0, {name}, {_changed(name, number)})")
    if column.kind in ("uuid", *BYTES):
        return Made(f"IF({number} = 0, {name}, {_other_bytes(column, name, number)})")
    return Made(name)


def _apart(column: Column, values: Sequence[Any]) -> Made:
    """A column's value made another in each row, though the target has few of them."""
    name = f"p.{quoted(column.name)}"
    if column.kind in WHOLE and any(value is not None for value in values):
        there = [int(value) for value in values if value is not None]
        return Made(f"{name} + s.n * {max(there) - min(there) + 1}")
    if column.kind in MOMENTS:
        unit = "DAY" if column.kind == "date" else "SECOND"
        return Made(f"{name} + INTERVAL s.n {unit}")
    if column.kind in BROKEN:
        return Made(f"{name} + s.n")
    if column.kind in ("uuid", *BYTES):
        return Made(f"IF(s.n = 0, {name}, {_other_bytes(column, name, 's.n')})")
    return Made(f"IF(s.n = 0, {name}, {_changed(name, 's.n')})")


def _other_bytes(column: Column, name: str, number: str) -> str:
    """Other bytes, anywhere among those of the sample, as keys made by chance are."""
    mixed = f"SHA2(CONCAT({name}, '-', {number}), 256)"
    if column.kind == "uuid":
        parts = (f"LEFT({mixed}, 8)", f"MID({mixed}, 9, 4)", f"CONCAT('4', MID({mixed}, 14, 3))",
                 f"CONCAT('8', MID({mixed}, 18, 3))", f"RIGHT({mixed}, 12)")  # fmt: skip
        return f"CONCAT_WS('-', {', '.join(parts)})"
    return f"LEFT(UNHEX(CONCAT({mixed}, {mixed})), LENGTH({name}))"


def _changed(name: str, number: str) -> str:
    """A text with a number in place of its last letters."""
    digits = f"CAST({number} AS CHAR)"
    kept = f"LEFT({name}, GREATEST(CHAR_LENGTH({name}) - CHAR_LENGTH({digits}), 0))"
    return f"CONCAT({kept}, {digits})"


def _gaps(values: Sequence[Any], number: Any) -> list[float]:
    """For each value how far the next larger one is; the mean for the largest."""
    numbers = [None if value is None else _safe(number, value) for value in values]
    distinct = sorted({each for each in numbers if each is not None})
    if len(distinct) < 2:
        return [0.0] * len(values)
    mean = (distinct[-1] - distinct[0]) / (len(distinct) - 1)
    found = []
    for each in numbers:
        if each is None:
            found.append(0.0)
            continue
        at = bisect.bisect_right(distinct, each)
        found.append(distinct[at] - each if at < len(distinct) else mean)
    return found


def _safe(number: Any, value: Any) -> float | None:
    try:
        found = float(number(value))
    except (TypeError, ValueError):
        return None
    return found if math.isfinite(found) else None


def _seconds(value: object) -> float:
    """A moment as a number; the zero date, which is none, raises ValueError."""
    if isinstance(value, datetime):
        return (value - _EPOCH).total_seconds()
    if isinstance(value, date):
        return (datetime(value.year, value.month, value.day) - _EPOCH).total_seconds()
    return (datetime.fromisoformat(str(value)) - _EPOCH).total_seconds()
