"""Statements that keep the first few rows of each group: by their number, or by DISTINCT ON."""

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
def numbering(sql: str, parser: str = DIALECT) -> Numbering | None:
    """What a statement keeps of each group; None when it does not, or not by one of these alone."""
    try:
        tree = sqlglot.parse_one(sql, dialect=parser)
    except (SqlglotError, RecursionError):
        return None
    windows = list(tree.find_all(exp.Window))
    if not windows:
        return _distinct_on(tree)
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


@lru_cache(maxsize=64)
def windows_group_by(sql: str, parser: str = DIALECT) -> frozenset[str]:
    """The columns by which all window functions of a statement group; none where one does not."""
    if "over" not in sql.lower():
        return frozenset()
    try:
        tree = sqlglot.parse_one(sql, dialect=parser)
    except (SqlglotError, RecursionError):
        return frozenset()
    each_by = [
        frozenset(by.name for by in w.args.get("partition_by") or () if isinstance(by, exp.Column))
        for w in tree.find_all(exp.Window)
    ]
    return frozenset.intersection(*each_by) if each_by else frozenset()


def _distinct_on(tree: exp.Expr) -> Numbering | None:
    """The first row of each group, in an order that begins with the groups."""
    found = [d for d in tree.find_all(exp.Distinct) if d.args.get("on") is not None]
    select = found[0].parent if len(found) == 1 else None
    if not isinstance(select, exp.Select) or select.args.get("order") is None:
        return None
    listed = found[0].args["on"]
    by = listed.expressions if isinstance(listed, exp.Tuple) else [listed.unnest()]
    if not by or not all(isinstance(each, exp.Column) for each in by):
        return None
    return Numbering(tuple(each.name for each in by), 1)


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
