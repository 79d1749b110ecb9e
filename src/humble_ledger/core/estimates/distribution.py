"""A column's values as the statistics know them: how they spread, and where a value falls."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime
from enum import StrEnum

from humble_ledger.core.estimates.known_values import ColumnValues
from humble_ledger.core.estimates.position import before, part_below
from humble_ledger.core.schema.facts import ColumnFacts

BINS = 20
DECILES = 10


@dataclass(frozen=True, slots=True)
class Bin:
    """An interval of values, and the share of all rows that lie in it (estimated)."""

    low: str
    high: str
    share: float


@dataclass(frozen=True, slots=True)
class Spread:
    """How the values that are not listed as common spread.

    ``even_width`` tells that all bins are equally wide, so that their heights compare; else
    each has about as many rows and it is their bounds that tell.
    """

    bins: tuple[Bin, ...]
    even_width: bool


class PlaceKind(StrEnum):
    """Where a value stands in the statistics."""

    LISTED = "listed"  # among the common values
    INSIDE = "inside"  # within the histogram
    BELOW = "below"  # before its first bound
    ABOVE = "above"  # behind its last bound
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class ValuePlace:
    """A value's place: the share of the rows that have it when listed, else what lies below."""

    kind: PlaceKind
    share: float | None = None


@dataclass(frozen=True, slots=True)
class AskedValue:
    """What is asked of a column: a condition, its value's place, and the rows that meet it.

    ``rows_estimated`` is the planner's, ``rows_counted`` None when nobody counted.
    """

    condition: str
    value: str
    place: ValuePlace
    rows_estimated: float | None
    rows_counted: int | None = None


def rest_share(column: ColumnFacts) -> float:
    """The share of rows that are neither NULL nor have a listed value."""
    return max(0.0, 1.0 - column.common_share - (column.null_share or 0.0))


def spread_of(column: ColumnFacts, values: ColumnValues, bins: int = BINS) -> Spread:
    """The histogram as bins; empty when there is none.

    A server's histogram has bounds between which equally many rows lie. Numbers and times are
    drawn over bins of equal width, by sharing out each interval evenly; other values cannot be
    measured, so they come as tenths of the rows.
    """
    bounds = values.histogram
    if len(bounds) < 2:
        return Spread((), True)
    rest = rest_share(column)
    numbers = _as_numbers(bounds)
    if numbers is None or numbers[-1] <= numbers[0]:
        return Spread(_tenths(bounds, rest), False)
    low, high = numbers[0], numbers[-1]
    edges = [low + (high - low) * n / bins for n in range(bins + 1)]
    below = [_share_below(numbers, edge) for edge in edges]
    return Spread(
        tuple(
            Bin(
                _text(edges[n], bounds),
                _text(edges[n + 1], bounds),
                rest * (below[n + 1] - below[n]),
            )
            for n in range(bins)
        ),
        True,
    )


def place_of(value: str, values: ColumnValues) -> ValuePlace:
    """Where a value stands in the statistics of its column."""
    for listed, share in values.common:
        if listed == value or _equal(listed, value):
            return ValuePlace(PlaceKind.LISTED, share)
    bounds = values.histogram
    if len(bounds) < 2:
        return ValuePlace(PlaceKind.UNKNOWN)
    if before(value, bounds[0]):
        return ValuePlace(PlaceKind.BELOW, 0.0)
    if before(bounds[-1], value):
        return ValuePlace(PlaceKind.ABOVE, 1.0)
    return ValuePlace(PlaceKind.INSIDE, part_below(value, bounds))


def _equal(one: str, other: str) -> bool:
    try:
        return float(one) == float(other)
    except ValueError:
        return False


def _tenths(bounds: Sequence[str], rest: float) -> tuple[Bin, ...]:
    count = min(DECILES, len(bounds) - 1)
    places = [round(n * (len(bounds) - 1) / count) for n in range(count + 1)]
    return tuple(Bin(bounds[places[n]], bounds[places[n + 1]], rest / count) for n in range(count))


def _share_below(edges: Sequence[float], value: float) -> float:
    place = bisect_right(edges, value)
    if place == 0:
        return 0.0
    if place >= len(edges):
        return 1.0
    low, high = edges[place - 1], edges[place]
    inside = (value - low) / (high - low) if high > low else 0.0
    return (place - 1 + inside) / (len(edges) - 1)


def _as_numbers(texts: Sequence[str]) -> list[float] | None:
    try:
        return [float(text) for text in texts]
    except ValueError:
        pass
    try:
        return [_moment(text).timestamp() for text in texts]
    except ValueError:
        return None


def _moment(text: str) -> datetime:
    # Python takes +00:00, servers print +00.
    sign = max(text.rfind("+"), text.rfind("-"))
    short_zone = sign > len("2026-01-01") and len(text) - sign == len("+00")
    return datetime.fromisoformat(text + ":00" if short_zone else text)


def _text(value: float, like: Sequence[str]) -> str:
    """A number as a value of this column would be written, short."""
    sample = like[0]
    try:
        float(sample)
    except ValueError:
        zone = _moment(sample).tzinfo
        moment = datetime.fromtimestamp(value, zone)
        days = (_moment(like[-1]) - _moment(sample)).days
        if len(sample) == len("2026-01-01"):
            return date.isoformat(moment.date())
        return moment.strftime("%Y-%m-%d" if days > BINS else "%Y-%m-%d %H:%M")
    whole = all("." not in text and "e" not in text for text in like)
    return f"{value:,.0f}" if whole else f"{value:,.4g}"
