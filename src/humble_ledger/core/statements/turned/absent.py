"""Values that may be absent: what stands in for NULL, and what is equal to it."""

from __future__ import annotations

from decimal import Decimal

from sqlglot import exp

from humble_ledger.core.statements.turned.model import Known, Turn, both_ways, called


def stand_in(comparison: exp.Expr, known: Known) -> Turn | None:
    """coalesce(c, 0) > 5  →  c > 5, as 0 is not; where it is: c > 5 OR c IS NULL."""
    for side, op, value in both_ways(comparison):
        given = called(side, "ifnull")
        if isinstance(side, exp.Coalesce):
            given = [side.this.unnest(), *side.expressions]
        if len(given) != 2:
            continue
        column = given[0]
        if not isinstance(column, exp.Column) or not known.type_of(column):
            continue
        plain = op(this=column.copy(), expression=value.copy())
        if known.never_null(column):
            return Turn(plain, f"{column.name} compared itself, which is never NULL")
        meets = _meets(given[1], op, value, known.is_text(column))
        if meets is None:
            continue
        absent = exp.Is(this=column.copy(), expression=exp.Null())
        instead = exp.paren(exp.or_(plain, absent)) if meets else plain
        return Turn(instead, f"{column.name} compared itself, NULL apart")
    return None


def _meets(stand_in: exp.Expr, op: type[exp.Expr], value: exp.Expr, text: bool) -> bool | None:
    """Whether a constant compares so with another one; None where that cannot be told."""
    if not isinstance(stand_in, exp.Literal) or not isinstance(value, exp.Literal):
        return None
    if stand_in.is_string != value.is_string:
        return None
    if stand_in.is_string:
        return stand_in.name == value.name if text and op is exp.EQ else None
    one, other = Decimal(stand_in.name), Decimal(value.name)
    held: dict[type[exp.Expr], bool] = {
        exp.EQ: one == other, exp.LT: one < other, exp.LTE: one <= other,
        exp.GT: one > other, exp.GTE: one >= other,
    }  # fmt: skip
    return held.get(op)


def null_safe(comparison: exp.Expr, known: Known) -> Turn | None:
    """c IS NOT DISTINCT FROM v  →  c = v, for a value that is not NULL."""
    if not isinstance(comparison, exp.NullSafeEQ):
        return None
    one, other = comparison.this.unnest(), comparison.expression.unnest()
    for column, value in ((one, other), (other, one)):
        literal = isinstance(value, exp.Literal)
        if isinstance(column, exp.Column) and (literal or isinstance(value, exp.Parameter)):
            return Turn(
                exp.EQ(this=column.copy(), expression=value.copy()),
                f"{column.name} compared by =",
                "" if literal else "the value is not NULL",
            )
    return None
