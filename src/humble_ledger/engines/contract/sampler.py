"""Reading rows: runs, counts and samples, each only when somebody asked for it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from humble_ledger.core.costs.model import KeySample
from humble_ledger.core.estimates.counting import ValueCounts
from humble_ledger.core.schema.facts import IndexKey, TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract.lab import (
    Outcome,
)


class Sampler(Protocol):
    """Runs statements that only read, counts, and takes samples."""

    def run(self, statement: Statement) -> Outcome:
        """Run a statement that only reads, fetch its rows, and time it."""
        ...

    def condition(self, table: TableName, column: str, operator: str, value: str) -> str:
        """A column compared with a value (=, <>, <, <=, >, >=), as this server writes it."""
        ...

    def count(self, table: TableName, conditions: Sequence[str]) -> int:
        """Count the rows of a table that meet all conditions, by reading them."""
        ...

    def value_counts(self, table: TableName, column: str, most: int) -> ValueCounts:
        """Count the values of a column by reading the whole table."""
        ...

    def few_values(self, table: TableName, column: str) -> Sequence[str]:
        """Some values of a column, the first that come, as text; those of bytes as digits."""
        ...

    def sample_keys(
        self, table: TableName, keys: Sequence[IndexKey], included: Sequence[str], predicate: str
    ) -> KeySample | None:
        """Entries that an index would have, from a block sample; None when none can be taken."""
        ...

    def sample_terms(
        self, table: TableName, key: IndexKey, type_name: str
    ) -> tuple[KeySample, float] | None:
        """Terms that an inverted index on a key would have, and how many a row has.

        None where no sample can be taken, or what the terms of such a type are is not known.
        """
        ...
