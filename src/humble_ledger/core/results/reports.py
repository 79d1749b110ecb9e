"""What a server knows of a table or a column, for one look at it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from humble_ledger.core.entries import (
    SymptomEntry,
)
from humble_ledger.core.estimates.counting import ValueCounts
from humble_ledger.core.estimates.distribution import AskedValue
from humble_ledger.core.estimates.known_values import ColumnValues
from humble_ledger.core.schema.facts import ColumnFacts, TableFacts


@dataclass(frozen=True, slots=True)
class TableReport:
    """A table as the server knows it now.

    ``pages_needed`` is what its rows would fill (computed; None when unknown); ``merged`` has
    for each index that another one makes superfluous the name of that one.
    """

    table: TableFacts
    pages_needed: float | None
    merged: Mapping[str, str]
    symptoms: tuple[SymptomEntry, ...] = ()


@dataclass(frozen=True, slots=True)
class ColumnReport:
    """A column's statistics, where the values asked for fall, and what was counted.

    ``gather`` is the statement that gathers statistics of its table.
    """

    table: TableFacts
    column: ColumnFacts
    values: ColumnValues
    asked: tuple[AskedValue, ...] = ()
    counts: ValueCounts | None = None
    gather: str = ""
