"""What a statement asks of the order of its rows, as places in what it shows."""

from __future__ import annotations

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


def order_asked(sql: str, parser: str = DIALECT) -> OrderAsked:
    """The order at the outermost level of a statement; nothing when it cannot be read."""
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
