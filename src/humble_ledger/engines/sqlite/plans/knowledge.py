"""What a plan's figures rest on: sizes of tables and indexes, and shares of rows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from humble_ledger.core.costs.model import IndexShape
from humble_ledger.core.schema.facts import TableFacts
from humble_ledger.engines.sqlite.plans.blocks import Condition


class Knowledge(Protocol):
    """Asked while a plan is put together."""

    def facts(self, table: str) -> TableFacts | None:
        """A table's facts."""
        ...

    def shape(self, table: str, index: str) -> IndexShape | None:
        """The size of an index that is there, or is supposed to be."""
        ...

    def keys(self, table: str, index: str) -> Sequence[str]:
        """The columns of an index's keys, "" for an expression; with what else it holds."""
        ...

    def unique(self, table: str, index: str) -> int | None:
        """How many keys together are unique; None when they are not."""
        ...

    def share(self, table: str, alias: str, conditions: Sequence[Condition]) -> float:
        """The part of a table's rows that meets all these."""
        ...

    def distinct(self, table: str, column: str) -> float:
        """How many different values a column has."""
        ...
