"""Removing an index as a remedy: for what it costs writers, and the space it takes."""

from __future__ import annotations

from dataclasses import replace

from humble_ledger.core.dialect import STANDARD, Dialect
from humble_ledger.core.messages import Told
from humble_ledger.core.remedies.model import Remedy, remedy_of
from humble_ledger.core.remedies.operations import DropIndex
from humble_ledger.core.remedies.write_overhead import write_overhead_of_removal
from humble_ledger.core.schema.facts import IndexFacts, TableFacts
from humble_ledger.core.symptoms.model import Symptom

_SUPERFLUOUS = ("duplicate-index", "redundant-index", "unused-index", "invalid-index")


def removal(table: TableFacts, symptom: Symptom, dialect: Dialect = STANDARD) -> Remedy | None:
    """The remedy "remove this index" for a symptom of a schema; None for one of another kind.

    And None on a partitioned table: its indexes can neither be hidden nor removed online.
    """
    if symptom.name not in _SUPERFLUOUS or table.kind == "partitioned":
        return None
    index = next((i for i in table.indexes if symptom.subject == f"{table.name}.{i.name}"), None)
    if index is None:
        return None
    return removal_of(table, index, symptom.cause.detail, cures=(symptom.name,), dialect=dialect)


def removal_of(
    table: TableFacts,
    index: IndexFacts,
    reason: Told,
    *,
    cures: tuple[str, ...] = (),
    queries: tuple[str, ...] = (),
    dialect: Dialect = STANDARD,
) -> Remedy:
    """The remedy "remove this index"; ``queries`` are those that use it now."""
    dropped = remedy_of(
        DropIndex(table.name, index.name, index.definition),
        f"remove the index {index.name} of {table.name}",
        dialect,
        reason=reason,
        cures=cures,
        queries=queries,
    )
    return replace(
        dropped,
        size_bytes_predicted=-index.size_bytes,
        write_overhead=write_overhead_of_removal(table, index),
    )
