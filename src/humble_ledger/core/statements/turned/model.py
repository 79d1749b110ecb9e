"""What a turned comparison is, and how one is taken apart."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass

from sqlglot import exp

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.statements.sql_dialect import DIALECT

TURNED: Mapping[type[exp.Expr], type[exp.Expr]] = {
    exp.EQ: exp.EQ, exp.LT: exp.GT, exp.LTE: exp.GTE, exp.GT: exp.LT, exp.GTE: exp.LTE,
}  # fmt: skip
_WHOLE = re.compile(r"(tiny|small|medium|big)?int(eger)?\b")
_EXACT = re.compile(r"(numeric|decimal)\b")
_TEXT = re.compile(r"(text|character varying|varchar)\b")
_PADDED = re.compile(r"(character|char|bpchar)(\(|$)")
# Functions of the present that the parser has no trees of its own for.
_CLOCKS = ("now", "curdate", "current_date", "localtime", "utc_timestamp", "utc_date")


@dataclass(frozen=True, slots=True)
class Turn:
    """What takes a comparison's place, and when that means the same ("" for always)."""

    instead: exp.Expr
    done: str
    same_when: str = ""


@dataclass(frozen=True, slots=True)
class Known:
    """What a rule may know: the type of a column ("" for unknown), what is never NULL, the SQL.

    And whether a column's values are the labels of an enumeration.
    """

    type_of: Callable[[exp.Column], str]
    never_null: Callable[[exp.Column], bool]
    dialect: Dialect
    labelled: Callable[[exp.Column], bool] = lambda _: False

    def is_whole(self, column: exp.Expr) -> bool:
        """Whether an expression is a column of whole numbers."""
        return self._is(column, _WHOLE)

    def is_exact(self, column: exp.Expr) -> bool:
        """Whether it is a column of numbers that are computed without rounding."""
        return self._is(column, _WHOLE) or self._is(column, _EXACT)

    def is_text(self, column: exp.Expr) -> bool:
        """Whether it is a column of texts that are not filled up with blanks."""
        return self._is(column, _TEXT)

    def is_padded(self, column: exp.Expr) -> bool:
        """Whether it is a column of texts that are filled up with blanks to one length."""
        return self._is(column, _PADDED)

    def is_time(self, column: exp.Expr) -> bool:
        """Whether it is a column of days or of moments, where these have types of their own."""
        type_ = self.type_of(column) if isinstance(column, exp.Column) else ""
        return self.dialect.times and type_.startswith(("timestamp", "datetime", "date"))

    def _is(self, column: exp.Expr, pattern: re.Pattern[str]) -> bool:
        return isinstance(column, exp.Column) and bool(pattern.match(self.type_of(column)))


def both_ways(comparison: exp.Expr) -> Iterator[tuple[exp.Expr, type[exp.Expr], exp.Expr]]:
    """Either side with the comparison as it reads from there, and the other side."""
    turned = TURNED.get(type(comparison))
    if turned is not None:
        one, other = comparison.this.unnest(), comparison.expression.unnest()
        yield one, type(comparison), other
        yield other, turned, one


def is_fixed(value: exp.Expr) -> bool:
    """Whether a value is the same for every row: no column, no function that could change it."""
    if next(value.find_all(exp.Rand, exp.Randn, exp.Uuid, exp.NextValueFor), None) is not None:
        return False
    functions = value.find_all(exp.Anonymous)
    if any(str(each.this).lower() not in _CLOCKS for each in functions):
        return False
    return next(value.find_all(exp.Column, exp.Subquery), None) is None


def called(part: exp.Expr, *names: str) -> list[exp.Expr]:
    """The arguments of a function of one of these names that the parser has no tree of its own for.

    Empty for all else.
    """
    if isinstance(part, exp.Anonymous) and str(part.this).lower() in names:
        return [each.unnest() for each in part.expressions]
    return []


def typed(value: exp.Expr, type_: str) -> exp.Expr:
    """A value that has no type of its own with one; any other as it is."""
    if isinstance(value, exp.Literal | exp.Parameter | exp.Placeholder):
        return exp.cast(value.copy(), exp.DataType.build(type_, dialect=DIALECT))
    return value.copy()


def later(moment: exp.Expr, count: int, unit: str) -> exp.Expr:
    """A moment and so many units after it."""
    span = exp.Interval(this=exp.Literal.string(str(count)), unit=exp.var(unit))
    return exp.Add(this=moment.copy(), expression=span)


def between(subject: exp.Expr, low: exp.Expr, end: exp.Expr) -> exp.Expr:
    """From one value on, up to another one that is no longer in."""
    return exp.paren(
        exp.and_(
            exp.GTE(this=subject.copy(), expression=low),
            exp.LT(this=subject.copy(), expression=end),
        )
    )
