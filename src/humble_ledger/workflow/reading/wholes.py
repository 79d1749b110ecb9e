"""Facts of the tables whose partitions a plan reads, beside those of the partitions."""

from __future__ import annotations

from collections.abc import Mapping

from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.engines.contract import Session


def with_wholes(
    session: Session, tables: Mapping[TableName, TableFacts]
) -> dict[TableName, TableFacts]:
    """The tables, and those that some of them are partitions of."""
    roots = {table.root for table in tables.values() if table.root is not None}
    return {**tables, **(session.tables(roots) if roots else {})}
