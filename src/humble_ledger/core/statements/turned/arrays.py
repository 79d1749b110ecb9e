"""Questions about the elements of a column, as an index from parts to rows can answer them."""

from __future__ import annotations

import re

from sqlglot import exp

from humble_ledger.core.statements.sql_dialect import DIALECT
from humble_ledger.core.statements.turned.model import Known, Turn

_OF_TEXTS = re.compile(r"(text|character varying(\(\d+\))?|varchar(\(\d+\))?|uuid)\[\]")
_OF_WHOLE_NUMBERS = re.compile(r"(smallint|integer|bigint)\[\]")
_KEEPING = (exp.And, exp.Or, exp.Paren)


def element(comparison: exp.Expr, known: Known) -> Turn | None:
    """'x' = ANY (c)  →  c @> ARRAY['x'].

    Where c holds NULL the first is unknown and the second false: the same to a condition that
    keeps rows, and not to its negation.
    """
    if not isinstance(comparison, exp.EQ) or not _keeps_rows(comparison):
        return None
    value, any_ = comparison.this.unnest(), comparison.expression.unnest()
    column = any_.this.unnest() if isinstance(any_, exp.Any) else None
    if not isinstance(column, exp.Column):
        return None
    type_ = known.type_of(column)
    if isinstance(value, exp.Literal):
        fits = _OF_TEXTS if value.is_string else _OF_WHOLE_NUMBERS
        told = fits.fullmatch(type_) is not None and (value.is_string or value.name.isdigit())
    else:
        told = isinstance(value, exp.Parameter) and type_.endswith("[]")
    if not told:
        return None
    array = exp.cast(exp.Array(expressions=[value.copy()]), exp.DataType.build(type_, DIALECT))
    return Turn(
        exp.ArrayContainsAll(this=column.copy(), expression=array),
        f"an element of {column.name} asked for by what it contains",
    )


def _keeps_rows(part: exp.Expr) -> bool:
    """Whether it stands in a condition that keeps rows, below nothing that could turn it round."""
    above = part.parent
    while isinstance(above, _KEEPING):
        above = above.parent
    return isinstance(above, exp.Where) or (
        isinstance(above, exp.Join) and not above.args.get("side")
    )
