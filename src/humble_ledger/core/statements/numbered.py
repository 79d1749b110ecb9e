"""Statements that number the rows of each group and keep the first few of them."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from humble_ledger.core.statements.sql_dialect import DIALECT


@dataclass(frozen=True, slots=True)
class Numbering:
    """The columns whose values make the groups, and how many rows of each are kept."""

    groups_by: tuple[str, ...]
    most: int


@lru_cache(maxsize=64)
def numbering(sql: str) -> Numbering | None:
    """What a statement numbers by row_number() and keeps; None when it does not, or not alone."""
    try:
        tree = sqlglot.parse_one(sql, dialect=DIALECT)
    except (SqlglotError, RecursionError):
        return None
    windows = list(tree.find_all(exp.Window))
    if len(windows) != 1 or not isinstance(windows[0].this, exp.RowNumber):
        return None
    alias, by = windows[0].parent, windows[0].args.get("partition_by") or []
    source = windows[0].find_ancestor(exp.Subquery)
    above = source.find_ancestor(exp.Select) if source is not None else None
    if not by or not isinstance(alias, exp.Alias) or source is None or above is None:
        return None
    if not all(isinstance(each, exp.Column) for each in by) or not windows[0].args.get("order"):
        return None
    most = most_kept(above, source.alias, alias.alias)
    return Numbering(tuple(each.name for each in by), most) if most else None


def most_kept(select: exp.Select, source: str, name: str) -> int | None:
    """The highest number ``name`` of a ``source`` that a query lets through; None if any."""
    where = select.args.get("where")
    condition = where.this.unnest() if where is not None else None
    parts = condition.flatten() if isinstance(condition, exp.And) else [condition]
    for part in (each.unnest() for each in parts if each is not None):
        if not isinstance(part, exp.EQ | exp.LTE | exp.LT):
            continue
        column, value = part.this.unnest(), part.expression.unnest()
        if not isinstance(column, exp.Column) or column.name != name:
            continue
        if column.table not in ("", source) or not isinstance(value, exp.Literal):
            continue
        if not value.is_string and str(value.this).isdigit():
            most = int(str(value.this)) - isinstance(part, exp.LT)
            return most if most > 0 else None
    return None
