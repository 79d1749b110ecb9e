"""What the statistics know of a column's values; apart from what is made of them."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class ColumnValues:
    """What the statistics know of a column's values, in the server's text form.

    ``common`` are its most common values with the share of rows each has, the most common
    first; ``histogram`` bounds between which equally many of the other rows lie.
    """

    common: tuple[tuple[str, float], ...] = ()
    histogram: tuple[str, ...] = ()
