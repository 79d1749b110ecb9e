"""Statements that change rows: which table, and which of its columns."""

from __future__ import annotations

from dataclasses import dataclass

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from humble_ledger.core.statements.kinds import StatementKind, kind_of
from humble_ledger.core.statements.sql_dialect import DIALECT


@dataclass(frozen=True, slots=True)
class Change:
    """One statement's change: INSERT, UPDATE or DELETE, the table as written, columns set."""

    verb: str
    table: str
    columns: frozenset[str] = frozenset()


def change_of(sql: str, parser: str = DIALECT) -> Change | None:
    """What a statement changes; None when it only reads or cannot be read."""
    if kind_of(sql) is StatementKind.READS:
        return None
    try:
        tree = sqlglot.parse_one(sql, dialect=parser)
    except (SqlglotError, RecursionError):
        return None
    if not isinstance(tree, exp.Insert | exp.Update | exp.Delete):
        return None
    table = tree.find(exp.Table)
    if table is None:
        return None
    name = f"{table.db}.{table.name}" if table.db else table.name
    columns: set[str] = set()
    if isinstance(tree, exp.Update):
        for each in tree.expressions:
            columns |= {column.name for column in each.this.find_all(exp.Column)}
    return Change(tree.key.upper(), name, frozenset(columns))
