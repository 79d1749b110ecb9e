"""Where a value lies among the values that the statistics of a column know.

Statistics come in the server's text form. Numbers are compared as numbers, all else as text:
dates and times of one session are written so that text order is their order.
"""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Sequence

_LITERAL = re.compile(r"'((?:[^']|'')*)'|(-?\d+(?:\.\d+)?)")


def literal_of(sql: str) -> str | None:
    """The value of a literal in a condition's text; None when there is none."""
    found = _LITERAL.search(sql)
    if found is None:
        return None
    return found[1].replace("''", "'") if found[1] is not None else found[2]


def before(one: str, other: str) -> bool:
    """Whether one value comes before the other."""
    numbers = _numbers((one, other))
    return numbers[0] < numbers[1] if numbers is not None else one < other


def part_below(value: str, bounds: Sequence[str]) -> float | None:
    """The share of a histogram's values that lie below a value, from 0 to 1.

    Within one interval it is interpolated for numbers, and taken as its middle otherwise.
    None without a histogram.
    """
    if len(bounds) < 2:
        return None
    numbers = _numbers((value, *bounds))
    if numbers is None:
        place = bisect_right(list(bounds), value)
        inside = 0.5 if 0 < place < len(bounds) else 0.0
        return min(1.0, max(0.0, (place - 1 + inside) / (len(bounds) - 1))) if place else 0.0
    wanted, edges = numbers[0], numbers[1:]
    place = bisect_right(edges, wanted)
    if place == 0:
        return 0.0
    if place == len(edges):
        return 1.0
    low, high = edges[place - 1], edges[place]
    inside = (wanted - low) / (high - low) if high > low else 0.5
    return (place - 1 + inside) / (len(edges) - 1)


def _numbers(values: Sequence[str]) -> list[float] | None:
    try:
        return [float(value) for value in values]
    except ValueError:
        return None
