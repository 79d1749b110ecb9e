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


def _of_one_table(tree: exp.Query, columns_of: Callable[[str], Sequence[str]]) -> list[str]:
    from_ = tree.args.get("from_")
    table = from_.this if from_ is not None and not tree.args.get("joins") else None
    if not isinstance(table, exp.Table):
        return []
    return list(columns_of(f"{table.db}.{table.name}" if table.db else table.name))
