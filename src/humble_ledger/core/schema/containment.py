"""Which comparisons look inside a value, and by which operator class an index serves them."""

from __future__ import annotations

from humble_ledger.core.schema.facts import ColumnFacts
from humble_ledger.core.schema.operator_classes import PATHS_OF_DOCUMENTS
from humble_ledger.core.statements.conditions import Predicate
from humble_ledger.core.statements.parting import halves
from humble_ledger.core.statements.tokens import unquoted


def inverted_class(predicate: Predicate, column: ColumnFacts) -> str | None:
    """The operator class of an inverted index that finds rows by a condition on the bare column.

    "" is the type's own; None when no such index can.
    """
    parted = halves(predicate.sql)
    if parted is None or unquoted(parted[0].rsplit(".", 1)[-1]) != column.name:
        return None
    operator, type_ = parted[1], column.type_name
    if type_ == "jsonb" and operator in ("@>", "@@", "@?", "?", "?|", "?&"):
        return PATHS_OF_DOCUMENTS if operator in ("@>", "@@", "@?") else ""
    if type_.rpartition(".")[2] == "hstore" and operator in ("@>", "?", "?|", "?&"):
        return ""
    if (type_.endswith("[]") and operator in ("@>", "&&", "<@")) or (
        type_ == "tsvector" and operator == "@@"
    ):
        return ""
    return None
