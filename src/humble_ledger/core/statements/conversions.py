"""Columns that a statement itself converts to another type, where it compares them."""

from __future__ import annotations

from functools import lru_cache

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from humble_ledger.core.statements.sql_dialect import DIALECT


@lru_cache(maxsize=64)
def converted_columns(sql: str, parser: str = DIALECT) -> frozenset[str]:
    """The names of columns that stand in a cast in WHERE, ON or HAVING; none if it is not read.

    What a server's plan shows as a cast may be of its own making, or written by somebody.
    """
    try:
        tree = sqlglot.parse_one(sql, dialect=parser)
    except (SqlglotError, RecursionError):
        return frozenset()
    places = [*tree.find_all(exp.Where, exp.Having)]
    places += [join for join in tree.find_all(exp.Join) if join.args.get("on") is not None]
    return frozenset(
        cast.this.unnest().name
        for place in places
        for cast in place.find_all(exp.Cast)
        if isinstance(cast.this.unnest(), exp.Column)
    )
