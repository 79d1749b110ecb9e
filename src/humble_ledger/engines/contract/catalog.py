"""What a server's catalogue and statistics tell of tables, columns and functions."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Protocol

from humble_ledger.core.estimates.known_values import ColumnValues
from humble_ledger.core.schema.facts import TableFacts, TableName


class Catalog(Protocol):
    """Facts about tables, and what may be built on them."""

    def tables(self, names: Iterable[TableName]) -> Mapping[TableName, TableFacts]:
        """Facts about these tables; unknown names are left out."""
        ...

    def user_tables(self) -> Sequence[TableName]:
        """The tables of this database that are the user's own."""
        ...

    def find_column(self, words: str) -> tuple[TableName, str]:
        """The table, and the column or "", that a name as people write it stands for."""
        ...

    def column_values(self, table: TableName, column: str) -> ColumnValues:
        """What the statistics know of a column's values; empty when nothing was gathered."""
        ...

    def volatile_functions(self, names: Iterable[str]) -> frozenset[str]:
        """Those of the named functions whose result may differ from one row to the next."""
        ...

    def is_immutable(self, table: TableName, expression: str) -> bool:
        """Whether an index may rest on this expression: it never changes for the same row."""
        ...

    def operator_classes(self) -> frozenset[str]:
        """What indexes can be sorted or taken apart by here, as "method:class"."""
        ...

    def can_create_index(self, table: TableName) -> bool:
        """Whether we may build an index on this table: it is ours, or we may do everything."""
        ...
