"""Years, months and days cut out of moments: compared with a beginning and an end."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from datetime import date

from sqlglot import exp

from humble_ledger.core.statements.turned.model import (
    Known,
    Turn,
    both_ways,
    called,
    is_fixed,
    typed,
)
from humble_ledger.core.statements.turned.moments import Moment, days_of, moment_of, plain_whole

_UNITS = ("minute", "hour", "day", "week", "month", "quarter", "year")
DAY = r"\d{4}-\d\d-\d\d"
# How the beginning of a unit is written, as far as it can be seen by a text.
_BEGINS = {
    "minute": rf"{DAY}( \d\d:\d\d(:00)?)?",
    "hour": rf"{DAY}( \d\d(:00){{0,2}})?",
    "day": rf"{DAY}( 00:00(:00)?)?",
    "month": r"\d{4}-\d\d-01( 00:00(:00)?)?",
    "quarter": r"\d{4}-(01|04|07|10)-01( 00:00(:00)?)?",
    "year": r"\d{4}-01-01( 00:00(:00)?)?",
}
_PARTS: Mapping[str, tuple[type[exp.Expr], ...]] = {
    "year": (exp.Year,), "month": (exp.Month,), "day": (exp.Day, exp.DayOfMonth),
}  # fmt: skip


def whole_unit(comparison: exp.Expr, known: Known) -> Turn | None:
    """date_trunc('day', c) = v  →  c >= v and c < v + one day."""
    for cut, op, value in both_ways(comparison):
        if not isinstance(cut, exp.TimestampTrunc | exp.DateTrunc) or not is_fixed(value):
            continue
        moment, unit = moment_of(cut.this, known), str(cut.args["unit"].name).strip("'").lower()
        if unit not in _UNITS or moment is None:
            return None
        return Turn(
            moment.in_unit(op, typed(value, moment.type_), unit),
            f"{moment.column.name} compared with the beginning and the end of the {unit}",
            ""
            if _begins(value, unit)
            else f"the value is the beginning of a {unit} (else the old statement has no row)",
        )
    return None


def whole_day(comparison: exp.Expr, known: Known) -> Turn | None:
    """c::date = v  →  c >= v and c < v + one day, and likewise for all that compares days."""
    for cut, op, value in both_ways(comparison):
        inner = _cut_to_day(cut)
        moment = moment_of(inner, known) if inner is not None else None
        if moment is None or not is_fixed(value):
            continue
        first = value.copy() if value.is_type("date") else exp.cast(value.copy(), "date")
        if isinstance(value, exp.CurrentDate):
            first = value.copy()
        return Turn(
            moment.in_unit(op, first, "day"),
            f"{moment.column.name} compared with the beginning and the end of the day",
            "" if _is_day(value) else "the value is a day without a time of day",
        )
    return None


def whole_year(comparison: exp.Expr, known: Known) -> Turn | None:
    """extract(year FROM c) = 2026  →  c between two first days of January."""
    for cut, op, value in both_ways(comparison):
        moment, year = part_of(cut, "year", known), plain_whole(value)
        if moment is not None and year is not None and 1 <= year < date.max.year:
            return Turn(
                moment.in_days(op, date(year, 1, 1), date(year + 1, 1, 1)),
                f"{moment.column.name} compared with the beginning and the end of the year",
            )
    return None


def parts_of_day(conditions: list[exp.Expr], known: Known) -> Iterator[tuple[exp.Expr, Turn]]:
    """Year and month, or year, month and day, of one column: the range that they mean together.

    Gives what takes the place of each of the conditions, the same turn for all of them.
    """
    found: dict[str, dict[str, tuple[exp.Expr, int, Moment]]] = {}
    for condition in conditions:
        if not isinstance(condition, exp.EQ):
            continue
        for cut, _, value in both_ways(condition):
            for unit in ("year", "month", "day"):
                moment, number = part_of(cut, unit, known), plain_whole(value)
                if moment is not None and number is not None:
                    told = cut.sql().replace(unit.upper(), "")
                    found.setdefault(told, {})[unit] = (condition, number, moment)
    for units in found.values():
        if not {"year", "month"} <= set(units):
            continue
        year, month = units["year"][1], units["month"][1]
        day = units["day"][1] if "day" in units else None
        span = days_of(year, month, day)
        if span is None:
            continue
        moment = units["year"][2]
        turn = Turn(
            moment.in_days(exp.EQ, *span),
            f"{moment.column.name} compared with the beginning and the end of the "
            f"{'month' if day is None else 'day'}",
        )
        for condition, _, _ in units.values():
            yield condition, turn


def seconds(comparison: exp.Expr, known: Known) -> Turn | None:
    """extract(epoch FROM c) > n  →  c > to_timestamp(n), for moments with a zone."""
    for cut, op, value in both_ways(comparison):
        moment = part_of(cut, "epoch", known)
        if moment is None or moment.zone is not None or not is_fixed(value):
            continue
        if known.type_of(moment.column).endswith("with time zone"):
            return Turn(
                op(this=moment.column.copy(), expression=exp.UnixToTime(this=value.copy())),
                f"the value told as a moment, not {moment.column.name} in seconds",
            )
    return None


def _cut_to_day(cut: exp.Expr) -> exp.Expr | None:
    """What a day is cut out of; None where none is."""
    inner: exp.Expr | None = None
    if isinstance(cut, exp.Cast):
        inner = cut.this if cut.to.is_type("date") else None
    elif isinstance(cut, exp.Date | exp.TsOrDsToDate):
        inner = None if cut.expressions else cut.this
    else:
        inner = next(iter(called(cut, "date")), None)
    return inner


def part_of(cut: exp.Expr, unit: str, known: Known) -> Moment | None:
    """The moment of which a comparison tests the year, the month, the day, or the seconds."""
    if isinstance(cut, exp.Extract) and str(cut.this).lower() == unit:
        return moment_of(cut.expression, known)
    if isinstance(cut, _PARTS.get(unit, ())):
        return moment_of(cut.this, known)
    inner = called(cut, unit, *(("dayofmonth",) if unit == "day" else ()))
    return moment_of(inner[0], known) if inner else None


def _begins(value: exp.Expr, unit: str) -> bool:
    """Whether a value is the beginning of a unit, whatever day it is."""
    if isinstance(value, exp.TimestampTrunc | exp.DateTrunc):
        return str(value.args["unit"].name).strip("'").lower() == unit
    text = value.this if isinstance(value, exp.Cast) else value
    if isinstance(value, exp.CurrentDate):
        return unit in ("minute", "hour", "day")
    pattern = _BEGINS.get(unit)
    return bool(pattern and isinstance(text, exp.Literal) and re.fullmatch(pattern, text.name))


def _is_day(value: exp.Expr) -> bool:
    """Whether a value is a day without a time: a parameter becomes what it is compared with."""
    if isinstance(value, exp.Add | exp.Sub):
        return _is_day(value.this.unnest()) and plain_whole(value.expression) is not None
    if isinstance(value, exp.Literal):
        return bool(re.fullmatch(DAY, value.name))
    return value.is_type("date") or isinstance(value, exp.CurrentDate | exp.Parameter)
