"""Numbers: arithmetic moved to the other side, and constants of the column's own type."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation
from fractions import Fraction
from math import ceil, floor

from sqlglot import exp

from humble_ledger.core.statements.turned.model import (
    TURNED,
    Known,
    Turn,
    both_ways,
    is_fixed,
)

MOST_DIGITS = 15  # of a quotient: one that needs more is not written out


def whole_number(comparison: exp.Expr, known: Known) -> Turn | None:
    """c = 918273.0  →  c = 918273, for a column of whole numbers."""
    for column, _, value in both_ways(comparison):
        if not isinstance(value, exp.Literal) or value.is_string or not known.is_whole(column):
            continue
        number = _number(value)
        if number is None or "." not in str(value.this) or number != int(number):
            continue
        instead = comparison.copy()
        literal = next(x for x in instead.find_all(exp.Literal) if x.this == value.this)
        literal.replace(exp.Literal.number(int(number)))
        return Turn(
            instead,
            f"{column.name} compared with a number of its own type",
            "the value is a whole number, as here",
        )
    return None


def moved_sum(comparison: exp.Expr, known: Known) -> Turn | None:
    """c + 30 > v  →  c > v - 30, and likewise for what is taken away, or taken from."""
    for side, op, value in both_ways(comparison):
        if not isinstance(side, exp.Add | exp.Sub) or not is_fixed(value):
            continue
        one, other = side.this.unnest(), side.expression.unnest()
        if known.is_exact(one) and is_fixed(other):
            column, back = one, exp.Sub if isinstance(side, exp.Add) else exp.Add
            instead = op(this=column.copy(), expression=_computed(back, value, other))
        elif known.is_exact(other) and is_fixed(one):
            column = other
            if isinstance(side, exp.Add):
                instead = op(this=column.copy(), expression=_computed(exp.Sub, value, one))
            else:
                instead = TURNED[op](this=column.copy(), expression=_computed(exp.Sub, one, value))
        else:
            continue
        moved = other if column is one else one
        if known.is_whole(column) and not (_stays_whole(moved) and _stays_whole(value)):
            continue
        return Turn(instead, f"{column.name} compared with a value computed from the constants")
    return None


def moved_factor(comparison: exp.Expr, known: Known) -> Turn | None:
    """c * 2 > 11  →  c > 5 for whole numbers, c > 5.5 for others: constants alone."""
    for side, op, value in both_ways(comparison):
        if not isinstance(side, exp.Mul):
            continue
        one, other = side.this.unnest(), side.expression.unnest()
        column, by = (one, other) if known.is_exact(one) else (other, one)
        factor, limit = _number(by), _number(value)
        if not known.is_exact(column) or not factor or limit is None:
            continue
        op_now = op if factor > 0 else TURNED[op]
        quotient = Fraction(limit) / Fraction(factor)
        bound = _whole_bound(op_now, quotient) if known.is_whole(column) else _as_decimal(quotient)
        if bound is None:
            continue
        return Turn(
            op_now(this=column.copy(), expression=_literal(bound)),
            f"{column.name} compared with a value computed from the constants",
        )
    return None


def _whole_bound(op: type[exp.Expr], quotient: Fraction) -> Decimal | None:
    """The whole number that parts whole numbers as a quotient does; None for = of a fraction."""
    if op is exp.EQ:
        return Decimal(int(quotient)) if quotient.denominator == 1 else None
    return Decimal(floor(quotient) if op in (exp.GT, exp.LTE) else ceil(quotient))


def _as_decimal(quotient: Fraction) -> Decimal | None:
    found = Decimal(quotient.numerator) / Decimal(quotient.denominator)
    exact = Fraction(found) == quotient and len(found.as_tuple().digits) <= MOST_DIGITS
    return found if exact else None


def _computed(op: type[exp.Expr], one: exp.Expr, other: exp.Expr) -> exp.Expr:
    """A sum or difference, worked out where both are plain numbers."""
    a, b = _number(one), _number(other)
    if a is not None and b is not None:
        return _literal(a + b if op is exp.Add else a - b)
    right = exp.paren(other.copy()) if isinstance(other, exp.Add | exp.Sub) else other.copy()
    return op(this=one.copy(), expression=right)


def _literal(number: Decimal) -> exp.Expr:
    text = f"{abs(number):f}"
    literal = exp.Literal.number(text)
    return exp.Neg(this=literal) if number < 0 else literal


def _stays_whole(value: exp.Expr) -> bool:
    """Whether a value makes no fraction of what it is added to; parameters take the type."""
    numbers = [_number(each) for each in value.find_all(exp.Literal)]
    if any(isinstance(each, exp.Div | exp.Cast) for each in value.walk()):
        return False
    return all(n is not None and n == int(n) for n in numbers)


def _number(value: exp.Expr) -> Decimal | None:
    """A plain number, with its sign."""
    if isinstance(value, exp.Neg):
        inner = _number(value.this.unnest())
        return -inner if inner is not None else None
    if not isinstance(value, exp.Literal) or value.is_string:
        return None
    try:
        return Decimal(str(value.this))
    except InvalidOperation:
        return None
