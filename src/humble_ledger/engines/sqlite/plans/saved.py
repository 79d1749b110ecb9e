"""A listing that somebody saved, read without its statement and its database."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.core.costs.model import IndexShape
from humble_ledger.core.schema.facts import TableFacts
from humble_ledger.engines.sqlite.plans.blocks import Condition
from humble_ledger.engines.sqlite.plans.building import Builder
from humble_ledger.engines.sqlite.plans.listing import lines_of


class NothingKnown:
    """See `knowledge.Knowledge`: there is nobody to ask."""

    def facts(self, table: str) -> TableFacts | None:
        """Unknown."""
        return None

    def shape(self, table: str, index: str) -> IndexShape | None:
        """Unknown."""
        return None

    def keys(self, table: str, index: str) -> Sequence[str]:
        """Unknown."""
        return ()

    def unique(self, table: str, index: str) -> int | None:
        """Unknown."""
        return None

    def share(self, table: str, alias: str, conditions: Sequence[Condition]) -> float:
        """Unknown."""
        return 1.0

    def distinct(self, table: str, column: str) -> float:
        """Unknown."""
        return 1.0


def document_of_tree(rows: Sequence[tuple[int, int, int, str]]) -> object:
    """The document of a plan of which only the lines are known: without rows and costs."""
    root = Builder(NothingKnown(), None).root(lines_of(rows))
    return {"sqlite_plan": 1, "root": root, "costs": False, "listing": [row[3] for row in rows]}
