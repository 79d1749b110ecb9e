"""A column of days or moments, and what it can be compared with.

A moment may be told in the local time of a zone first (``c AT TIME ZONE 'UTC'``); then its bounds
are told in that zone, too, and turned back into moments.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import date, timedelta

from sqlglot import exp

from humble_ledger.core.statements.turned.model import Known, between, later

_DAYS = {"day": 1, "week": 7}
_MONTHS = {"month": 1, "quarter": 3, "year": 12}


@dataclass(frozen=True, slots=True)
class Moment:
    """A column of days or moments; with a zone, what its clocks show."""

    column: exp.Column
    type_: str
    zone: exp.Expr | None = None

    def bound(self, value: exp.Expr) -> exp.Expr:
        """A day or a local moment as what the column can be compared with."""
        if self.zone is None:
            return value.copy()
        local = value if value.is_type("timestamp") else exp.cast(value.copy(), "timestamp")
        return exp.AtTimeZone(this=_bracketed(local), zone=self.zone.copy())

    def compared(self, op: type[exp.Expr], value: exp.Expr) -> exp.Expr:
        """The column compared with such a value."""
        return op(this=self.column.copy(), expression=self.bound(value))

    def in_unit(self, op: type[exp.Expr], begin: exp.Expr, unit: str) -> exp.Expr:
        """Its unit compared with the one that begins there."""
        first = _day_of(begin)
        end = _day_after(first, unit) if first is not None else None
        if first is not None and end is not None:
            return self.in_days(op, first, end)
        count, name = (3, "month") if unit == "quarter" else (1, unit)
        return self.in_span(op, begin, later(begin, count, name))

    def in_days(self, op: type[exp.Expr], first: date, end: date) -> exp.Expr:
        """The same, where both ends are known.

        A moment with a zone is compared with constants of its own type: with a day it is compared
        anew in each session's zone, so that no partition could be left out by the planner.
        """
        zoned = self.zone is None and self.type_.endswith("with time zone")
        type_ = "timestamptz" if zoned else "date"
        return self.in_span(op, _day(first, type_), _day(end, type_))

    def in_span(self, op: type[exp.Expr], begin: exp.Expr, end: exp.Expr) -> exp.Expr:
        """What is in a span compared with it."""
        if op is exp.EQ:
            return between(self.column, self.bound(begin), self.bound(end))
        if op in (exp.LT, exp.GTE):
            return self.compared(op, begin)
        return self.compared(exp.LT if op is exp.LTE else exp.GTE, end)


def moment_of(subject: exp.Expr, known: Known) -> Moment | None:
    """What a column of moments, told in a zone or not, is; None for all else."""
    inner = subject.unnest()
    if isinstance(inner, exp.TsOrDsToDate | exp.TsOrDsToTimestamp):
        inner = inner.this.unnest()
    if isinstance(inner, exp.AtTimeZone):
        zone, column = inner.args["zone"], inner.this.unnest()
        if not isinstance(column, exp.Column) or not isinstance(zone, exp.Literal):
            return None
        zoned = known.is_time(column) and known.type_of(column).endswith("with time zone")
        return Moment(column, "timestamp", zone) if zoned else None
    if not isinstance(inner, exp.Column) or not known.is_time(inner):
        return None
    return Moment(inner, known.type_of(inner))


def days_of(year: int, month: int, day: int | None) -> tuple[date, date] | None:
    """The first day of a month or a day, and the first one after it; None where there is none."""
    try:
        first = date(year, month, day or 1)
        if day is not None:
            return first, first + timedelta(days=1)
        return first, date(year + month // 12, month % 12 + 1, 1)
    except (ValueError, OverflowError):
        return None


def plain_whole(value: exp.Expr) -> int | None:
    """A plain whole number."""
    inner = value.unnest()
    is_number = isinstance(inner, exp.Literal) and not inner.is_string
    return int(inner.name) if is_number and inner.name.isdigit() else None


def _day(day: date, type_: str) -> exp.Expr:
    return exp.cast(exp.Literal.string(day.isoformat()), type_)


_WRITTEN_DAY = re.compile(r"(\d{4}-\d\d-\d\d)( 00:00(:00)?)?")


def _day_of(value: exp.Expr) -> date | None:
    """The day that a constant means the beginning of; None for all else."""
    text = value.this if isinstance(value, exp.Cast) else value
    found = _WRITTEN_DAY.fullmatch(text.name) if isinstance(text, exp.Literal) else None
    try:
        return date.fromisoformat(found[1]) if found else None
    except ValueError:
        return None


def _day_after(first: date, unit: str) -> date | None:
    """The day that follows a unit which begins on a day; None where none begins there."""
    try:
        if unit in _DAYS:
            return first + timedelta(days=_DAYS[unit])
        months = _MONTHS.get(unit)
        if months is None or first.day != 1:
            return None
        later_month = first.month - 1 + months
        return date(first.year + later_month // 12, later_month % 12 + 1, 1)
    except (ValueError, OverflowError):
        return None


def _bracketed(value: exp.Expr) -> exp.Expr:
    return exp.paren(value) if isinstance(value, exp.Add | exp.Sub) else value
