"""What a statement asks of the order of its rows, as places in what it shows."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from humble_ledger.core.statements.sql_dialect import DIALECT


@dataclass(frozen=True, slots=True)
class OrderAsked:
    """The places of the columns ordered by (empty when not all are shown), and a LIMIT.

    ``terms`` are what is ordered by as SQL, with its direction and collation.
    """

    places: tuple[int, ...] = ()
    limited: bool = False
    terms: tuple[str, ...] = ()


def order_asked(
    sql: str, parser: str = DIALECT, columns_of: Callable[[str], Sequence[str]] = lambda _: ()
) -> OrderAsked:
    """The order at the outermost level of a statement; nothing when it cannot be read.

    ``columns_of`` gives the columns of a table, in their order, for a statement that shows all.
    """
    try:
        tree = sqlglot.parse_one(sql, dialect=parser)
    except (SqlglotError, RecursionError):
        return OrderAsked()
    order = tree.args.get("order")
    limited = tree.args.get("limit") is not None
    if order is None or not isinstance(tree, exp.Query):
        return OrderAsked(limited=limited)
    terms = tuple(each.sql(dialect=parser) for each in order.expressions)
    names = [shown.alias_or_name for shown in tree.selects]
    if len(tree.selects) == 1 and isinstance(tree.selects[0], exp.Star):
        names = _of_one_table(tree, columns_of)
    places = []
    for each in order.expressions:
        asked = each.this
        if isinstance(asked, exp.Literal) and not asked.is_string:
            places.append(int(str(asked.this)) - 1)
        elif isinstance(asked, exp.Column) and asked.name in names:
            places.append(names.index(asked.name))
        else:
            return OrderAsked(limited=limited, terms=terms)
    return OrderAsked(tuple(places), limited, terms)


def showing_its_order(sql: str, parser: str = DIALECT) -> str:
    """The statement with nothing shown but what its rows are ordered by; "" where that is unclear.

    The rows are the same, so that two runs of it tell whether only ties changed places.
    """
    try:
        tree = sqlglot.parse_one(sql, dialect=parser)
    except (SqlglotError, RecursionError):
        return ""
    order = tree.args.get("order")
    if not isinstance(tree, exp.Select) or order is None:
        return ""
    if any(tree.args.get(clause) for clause in ("distinct", "group", "having")):
        return ""
    if any(tree.find(kind) for kind in (exp.AggFunc, exp.Window)):
        return ""
    terms = [each.this for each in order.expressions]
    named = {e.alias for e in tree.selects if isinstance(e, exp.Alias)}
    if any(isinstance(t, exp.Literal) or (t.find(exp.Column) is None) for t in terms):
        return ""
    if any(c.name in named and not c.table for t in terms for c in t.find_all(exp.Column)):
        return ""
    shown = [exp.alias_(t.copy(), f"humble_key_{n}") for n, t in enumerate(terms)]
    tree.set("expressions", shown)
    return tree.sql(dialect=parser)


def _of_one_table(tree: exp.Query, columns_of: Callable[[str], Sequence[str]]) -> list[str]:
    from_ = tree.args.get("from_")
    table = from_.this if from_ is not None and not tree.args.get("joins") else None
    if not isinstance(table, exp.Table):
        return []
    return list(columns_of(f"{table.db}.{table.name}" if table.db else table.name))
