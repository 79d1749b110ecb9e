"""Expressions among the keys of an index."""

from __future__ import annotations

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from humble_ledger.core.schema.facts import ColumnFacts
from humble_ledger.core.statements.sql_dialect import DIALECT


def column_of_expression(text: str) -> ColumnFacts:
    """What an index keeps of an expression, as if it were a column: its type, where that shows."""
    try:
        tree = sqlglot.parse_one(text, dialect=DIALECT).unnest()
    except (SqlglotError, RecursionError, IndexError):
        tree = exp.Null()
    type_name = "numeric" if isinstance(tree, exp.Extract) else ""
    if isinstance(tree, exp.Cast):
        shown = tree.to.sql(dialect=DIALECT).lower()
        type_name = "numeric" if tree.to.is_type("decimal") else shown
    return ColumnFacts("", type_name, 0, False, length_bytes=-1, alignment_bytes=4)
