"""Addresses in the order of their networks: what lies within one lies between its two ends."""

from __future__ import annotations

from humble_ledger.core.schema.facts import ColumnFacts
from humble_ledger.core.statements.conditions import Predicate, PredicateKind

_TYPES = ("inet", "cidr")


def lies_between(predicate: Predicate, column: ColumnFacts | None) -> bool:
    """Whether an index in the order of a column finds what a condition asks of its networks."""
    if predicate.kind is not PredicateKind.WITHIN or column is None:
        return False
    return (column.base_type or column.type_name) in _TYPES
