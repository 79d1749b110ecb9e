"""Sizes of an engine that is reckoned with as if it had indexes in order only."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Sequence

from humble_ledger.core.costs.model import IndexShape, KeySample
from humble_ledger.core.schema.facts import ColumnFacts, TableFacts


class OrderedSizes(ABC):
    """See `core.costs.contract.IndexSizer`: every other kind is as large as one in order."""

    __slots__ = ()

    @abstractmethod
    def in_order(
        self,
        table: TableFacts,
        columns: Sequence[ColumnFacts],
        included: Sequence[ColumnFacts] = (),
        entries: float | None = None,
        sample: KeySample | None = None,
    ) -> IndexShape:
        """An index that is kept in the order of its keys."""

    def block_ranges(self, table: TableFacts, keys: int) -> IndexShape:
        """As large as one without keys."""
        return self.in_order(table, ())

    def enclosing(self, table: TableFacts, columns: Sequence[ColumnFacts]) -> IndexShape:
        """As large as one of these columns."""
        return self.in_order(table, columns)

    def inverted(
        self,
        table: TableFacts,
        width_bytes: float,
        terms_per_row: float,
        sample: KeySample | None = None,
    ) -> IndexShape:
        """An entry for each term."""
        return self.in_order(table, (), entries=table.rows * max(1.0, terms_per_row))


def pages_above(leaves: int, entry_bytes: float, room_bytes: float) -> tuple[int, int]:
    """The pages over so many leaves, and their levels, with entries of so many bytes on each."""
    level, above, levels = leaves, 0, 0
    while level > 1:
        level = math.ceil(level * entry_bytes / room_bytes)
        above += level
        levels += 1
    return above, levels
