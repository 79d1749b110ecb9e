"""How many rows a condition keeps when only the statistics of single columns are known."""

from __future__ import annotations

from humble_ledger.core.schema.facts import TableFacts
from humble_ledger.core.statements.conditions import Predicate, PredicateKind, Wrapping

# What is assumed when nothing is known, as planners do.
DEFAULT_EQUALITY, DEFAULT_RANGE, DEFAULT_OTHER = 0.005, 1 / 3, 0.5


def share_by_statistics(table: TableFacts, predicate: Predicate) -> float:
    """The share of rows that a condition keeps, from 0 to 1."""
    if predicate.kind is PredicateKind.EQUALITY and predicate.column and not predicate.negated:
        column = table.columns.get(predicate.column.column)
        bare = predicate.wrapping in (Wrapping.NONE, Wrapping.CAST)
        distinct = column.distinct_values(table.rows) if column and bare else None
        return 1.0 / distinct if distinct else DEFAULT_EQUALITY
    if predicate.kind is PredicateKind.RANGE:
        return DEFAULT_RANGE
    return DEFAULT_OTHER
