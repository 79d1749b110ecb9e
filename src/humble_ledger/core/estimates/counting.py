"""What really stands in a column, counted row by row."""

from __future__ import annotations

from dataclasses import dataclass

FEW_VALUES = 64  # enough to see what kind of values a column has


@dataclass(frozen=True, slots=True)
class ValueCounts:
    """A column's rows, NULLs and distinct values as counted, and its most common values.

    ``common`` has (value in the server's text form, rows), the most common first.
    """

    rows: int
    nulls: int
    distinct: int
    common: tuple[tuple[str, int], ...] = ()


def shown_value(value: object) -> str:
    """A value as text; bytes as hexadecimal digits."""
    return value.hex() if isinstance(value, bytes) else str(value)
