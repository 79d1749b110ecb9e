"""What an engine's formulas must offer, so that predictions can be made by them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from humble_ledger.core.costs.model import IndexShape, KeySample, ScanCost, Search
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.schema.facts import ColumnFacts, TableFacts


class IndexSizer(Protocol):
    """How large an index would be when freshly built."""

    def in_order(
        self,
        table: TableFacts,
        columns: Sequence[ColumnFacts],
        included: Sequence[ColumnFacts] = (),
        entries: float | None = None,
        sample: KeySample | None = None,
    ) -> IndexShape:
        """An index that is kept in the order of its keys.

        ``entries`` are its rows when they are not all of the table's. An expression among its
        keys is no column: what a sample shows stands for it.
        """
        ...

    def block_ranges(self, table: TableFacts, keys: int) -> IndexShape:
        """An index of the least and greatest value of each range of pages."""
        ...

    def enclosing(self, table: TableFacts, columns: Sequence[ColumnFacts]) -> IndexShape:
        """A tree of shapes that enclose the values of these columns, or of an expression ()."""
        ...

    def inverted(
        self,
        table: TableFacts,
        width_bytes: float,
        terms_per_row: float,
        sample: KeySample | None = None,
    ) -> IndexShape:
        """An index from the parts of a value, its terms, to its rows.

        ``width_bytes`` is the mean length of a value, ``sample`` one of the terms.
        """
        ...


class Resources(Protocol):
    """What a server grants to one step, and the settings that say so, by their names there."""

    @property
    def memory_setting(self) -> str:
        """The memory of a sort."""
        ...

    @property
    def hash_memory_setting(self) -> str:
        """The memory of a hash."""
        ...

    @property
    def workers_setting(self) -> str:
        """How many parallel workers one step may have."""
        ...

    @property
    def most_workers_setting(self) -> str:
        """How many there are in all."""
        ...

    @property
    def compile_setting(self) -> str:
        """Whether expressions are compiled."""
        ...

    @property
    def compile_above_setting(self) -> str:
        """From which cost on they are."""
        ...

    def memory_bytes(self, plan: Plan) -> float:
        """What a sort may use: as the plan was made with, else the server's setting now."""
        ...

    def hash_memory_bytes(self, plan: Plan) -> float:
        """What a hash may use."""
        ...

    @property
    def most_workers(self) -> float | None:
        """How many parallel workers the server has in all; None when it does not tell."""
        ...

    @property
    def compile_above_cost(self) -> float | None:
        """The estimated cost from which on expressions are compiled; None when unknown."""
        ...


class CostModel(Protocol):
    """One server's cost formulas with its settings; costs in the server's units."""

    @property
    def sizes(self) -> IndexSizer:
        """How large its indexes are."""
        ...

    @property
    def resources(self) -> Resources:
        """What it grants to one step."""
        ...

    @property
    def skips_leading_columns(self) -> bool:
        """Whether a search may skip a leading column, once for each of its values."""
        ...

    def sort(self, rows: float, width_bytes: float) -> float:
        """Sorting rows, in memory or on disk."""
        ...

    def per_row(self, rows: float, operators: float = 0) -> float:
        """Handling rows, each with some operator calls."""
        ...

    def full_scan(self, table: TableFacts, operators: float = 0) -> float:
        """Reading a table whole, with some operator calls for each row."""
        ...

    def correlation(self, leading: ColumnFacts | None, keys: int) -> float:
        """How far rows lie in the order of an index with so many keys, from -1 to 1."""
        ...

    def index_scan(
        self,
        table: TableFacts,
        shape: IndexShape,
        search: Search,
        correlation: float,
        covering: bool = False,
    ) -> ScanCost:
        """Fetching rows in the order of an index."""
        ...

    def bitmap_scan(self, table: TableFacts, shape: IndexShape, search: Search) -> ScanCost:
        """Finding rows by an index, then fetching their pages in the order of the table."""
        ...

    def block_range_scan(
        self, table: TableFacts, shape: IndexShape, search: Search, correlation: float
    ) -> ScanCost:
        """Reading the ranges of pages that an index of block ranges leaves."""
        ...

    def inverted_scan(
        self, table: TableFacts, shape: IndexShape, search: Search, terms: int
    ) -> ScanCost:
        """One search of so many terms by an inverted index."""
        ...
