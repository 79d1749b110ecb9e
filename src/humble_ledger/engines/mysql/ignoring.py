"""The same statement without the use of some indexes: IGNORE INDEX behind the tables it reads."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import lru_cache

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from humble_ledger.engines.mysql.naming import quoted
from humble_ledger.engines.mysql.sql_dialect import NAME
from humble_ledger.errors import RefusedForSafety


@lru_cache(maxsize=256)
def without(sql: str, indexes: tuple[tuple[str, str], ...]) -> str:
    """The statement, told to ignore indexes (table, name); its other letters stay as they are.

    Raises:
        RefusedForSafety: it cannot be taken apart, or has no place for it (DELETE).
    """
    if not indexes:
        return sql
    by_table: dict[str, list[str]] = {}
    for table, name in indexes:
        by_table.setdefault(table.lower(), []).append(name)
    try:
        tree = sqlglot.parse_one(sql, dialect=NAME)
    except (SqlglotError, RecursionError) as error:
        raise _cannot("it cannot be taken apart") from error
    if isinstance(tree, exp.Delete):
        raise _cannot("DELETE has no place for it")
    places = _places(tree, by_table)
    for end in sorted(places, reverse=True):
        names = ", ".join(quoted(name) for name in places[end])
        sql = f"{sql[:end]} IGNORE INDEX ({names}){sql[end:]}"
    return sql


def _places(tree: exp.Expr, by_table: Mapping[str, Sequence[str]]) -> dict[int, Sequence[str]]:
    found: dict[int, Sequence[str]] = {}
    named = {cte.alias.lower() for cte in tree.find_all(exp.CTE)}
    for table in tree.find_all(exp.Table):
        names = by_table.get(table.name.lower())
        if not names or (table.name.lower() in named and not table.db):
            continue
        if table.find_ancestor(exp.Insert) is not None and table.find_ancestor(exp.Select) is None:
            continue  # where rows are put, nothing is searched
        last = table.args.get("alias")
        identifier = last.this if last is not None and last.this is not None else table.this
        end = identifier.meta.get("end")
        if end is None:
            raise _cannot("the place of a table in it cannot be told")
        found[int(end) + 1] = names
    return found


def _cannot(why: str) -> RefusedForSafety:
    return RefusedForSafety(
        f"The statement cannot be run without the index: {why}.",
        "Try it with --online: the index is then built and dropped, one stage after the other.",
    )
