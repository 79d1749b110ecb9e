"""What ANALYZE would write of an index that is not there, from a sample of the rows.

The library itself analyzes such an index on the sample; its figures are then taken to the size of
the table. Formats: the manual's "The sqlite_stat1 Table" and "The sqlite_stat4 Table".
"""

from __future__ import annotations

from dataclasses import dataclass

from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.engines.sqlite.ground import Ground
from humble_ledger.engines.sqlite.samples import Analyzed

FEWEST_SEEN = 3  # rows of the sample with one value, below which it is an average one


@dataclass(frozen=True, slots=True)
class SupposedStatistics:
    """The text for ``sqlite_stat1``, and (neq, nlt, ndlt, sample) for ``sqlite_stat4``."""

    numbers: str
    samples: tuple[tuple[str, str, str, bytes], ...] = ()


def statistics_of(ground: Ground, design: IndexDesign, entries: float) -> SupposedStatistics:
    """Statistics of an index with so many entries."""
    distinct = [_distinct(ground, design, place, entries) for place in _places(design)]
    each = [min(entries, max(1.0, entries / max(1.0, count))) for count in distinct]
    numbers = " ".join(str(max(1, round(n))) for n in (entries, *each))
    table = ground.table(design.table.name)
    seen = ground.sample(table).analyzed(design.body) if table is not None else None
    if seen is None or not seen.samples:
        return SupposedStatistics(numbers)
    return SupposedStatistics(numbers, tuple(_scaled(seen, entries, each, distinct)))


def _places(design: IndexDesign) -> range:
    return range(1, len(design.keys) + 1)


def _distinct(ground: Ground, design: IndexDesign, place: int, entries: float) -> float:
    """How many different values the first keys have together."""
    some = design.keys[:place]
    if place == 1 and some[0].column and not design.predicate:
        return min(entries, ground.distinct(design.table.name, some[0].column))
    seen = ground.key_sample(design.table.name, some, (), design.predicate)
    return seen.distinct(entries) if seen is not None and seen.rows_kept else 1.0


def _scaled(
    seen: Analyzed, entries: float, each: list[float], distinct: list[float]
) -> list[tuple[str, str, str, bytes]]:
    kept = max(1.0, seen.numbers[0])
    part = entries / kept
    # Of each value there are as many in the sample as the mean of its figures says.
    apart = [max(1.0, kept / max(1.0, mean)) for mean in seen.numbers[1:]]
    found = []
    for equal, less, less_values, value in seen.samples:
        equals, lesses, values = [], [], []
        for place, count in enumerate(equal):
            known = place < len(each)
            many = (
                count * part if count >= FEWEST_SEEN or part <= 1.0 else each[place] if known else 1
            )
            equals.append(max(1, round(many if known else 1)))
            lesses.append(round(less[place] * part))
            times = distinct[place] / apart[place] if known and place < len(apart) else part
            values.append(round(less_values[place] * max(1.0, times)))
        found.append((_text(equals), _text(lesses), _text(values), value))
    return found


def _text(numbers: list[int]) -> str:
    return " ".join(map(str, numbers))
