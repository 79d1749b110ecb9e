"""Days and moments: what is cut out of them compared with a beginning and an end.

A moment may be told in the local time of a zone first (``c AT TIME ZONE 'UTC'``); then its bounds
are told in that zone, too, and turned back into moments.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import date, timedelta

from sqlglot import exp

from humble_ledger.core.statements.sql_dialect import DIALECT
from humble_ledger.core.statements.turned.model import (
    TURNED,
    Known,
    Turn,
    between,
    both_ways,
    called,
    is_fixed,
    later,
    typed,
)

_UNITS = ("minute", "hour", "day", "week", "month", "quarter", "year")
_DAY = r"\d{4}-\d\d-\d\d"
# How the beginning of a unit is written, as far as it can be seen by a text.
_BEGINS = {
    "minute": rf"{_DAY}( \d\d:\d\d(:00)?)?",
    "hour": rf"{_DAY}( \d\d(:00){{0,2}})?",
    "day": rf"{_DAY}( 00:00(:00)?)?",
    "month": r"\d{4}-\d\d-01( 00:00(:00)?)?",
    "quarter": r"\d{4}-(01|04|07|10)-01( 00:00(:00)?)?",
    "year": r"\d{4}-01-01( 00:00(:00)?)?",
}
_PARTS: Mapping[str, tuple[type[exp.Expr], ...]] = {
    "year": (exp.Year,), "month": (exp.Month,), "day": (exp.Day, exp.DayOfMonth),
}  # fmt: skip
_NO_CHANGES = ("UTC", "GMT", "ETC/UTC", "ETC/GMT", "ZULU", "UNIVERSAL", "+00:00")
# Of a text that begins with its year: what each writing of a day or of a part of one tells.
_WRITTEN = {
    "%Y": (r"(\d{4})", "year"),
    "%Y-%m": (r"(\d{4})-(\d\d)", "month"),
    "%Y%m": (r"(\d{4})(\d\d)", "month"),
    "%Y-%m-%d": (r"(\d{4})-(\d\d)-(\d\d)", "day"),
    "%Y%m%d": (r"(\d{4})(\d\d)(\d\d)", "day"),
}
_AFTER_CHRIST = "no year lies before the year 1"
_CLOCKS_STAND = "no clock is put forward or back near the value"
# An interval whose length hangs on no calendar.
_EQUALLY_LONG = re.compile(
    r"INTERVAL '[\d.]+ (?:HOUR|MINUTE|SECOND|MILLISECOND)S?'|"
    r"(?:CAST\()?'\d+:\d\d(?::\d\d)?'(?:::| AS )INTERVAL\)?",
    re.IGNORECASE,
)
_DAYS = re.compile(
    r"INTERVAL '\d+ (?:DAY|WEEK)S?'|(?:CAST\()?'\d+ days?'(?:::| AS )INTERVAL\)?", re.IGNORECASE
)


@dataclass(frozen=True, slots=True)
class _Moment:
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
        count, name = (3, "month") if unit == "quarter" else (1, unit)
        return self.in_span(op, begin, later(begin, count, name))

    def in_days(self, op: type[exp.Expr], first: date, end: date) -> exp.Expr:
        """The same, where both ends are known."""
        return self.in_span(op, _day(first), _day(end))

    def in_span(self, op: type[exp.Expr], begin: exp.Expr, end: exp.Expr) -> exp.Expr:
        """What is in a span compared with it."""
        if op is exp.EQ:
            return between(self.column, self.bound(begin), self.bound(end))
        if op in (exp.LT, exp.GTE):
            return self.compared(op, begin)
        return self.compared(exp.LT if op is exp.LTE else exp.GTE, end)


def _moment(subject: exp.Expr, known: Known) -> _Moment | None:
    """What a column of moments, told in a zone or not, is; None for all else."""
    inner = subject.unnest()
    if isinstance(inner, exp.TsOrDsToDate | exp.TsOrDsToTimestamp):
        inner = inner.this.unnest()
    if isinstance(inner, exp.AtTimeZone):
        zone, column = inner.args["zone"], inner.this.unnest()
        if not isinstance(column, exp.Column) or not isinstance(zone, exp.Literal):
            return None
        zoned = known.is_time(column) and known.type_of(column).endswith("with time zone")
        return _Moment(column, "timestamp", zone) if zoned else None
    if not isinstance(inner, exp.Column) or not known.is_time(inner):
        return None
    return _Moment(inner, known.type_of(inner))


def whole_unit(comparison: exp.Expr, known: Known) -> Turn | None:
    """date_trunc('day', c) = v  →  c >= v and c < v + one day."""
    for cut, op, value in both_ways(comparison):
        if not isinstance(cut, exp.TimestampTrunc | exp.DateTrunc) or not is_fixed(value):
            continue
        moment, unit = _moment(cut.this, known), str(cut.args["unit"].name).strip("'").lower()
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
        moment = _moment(inner, known) if inner is not None else None
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
        moment, year = _part(cut, "year", known), _whole(value)
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
    found: dict[str, dict[str, tuple[exp.Expr, int, _Moment]]] = {}
    for condition in conditions:
        if not isinstance(condition, exp.EQ):
            continue
        for cut, _, value in both_ways(condition):
            for unit in ("year", "month", "day"):
                moment, number = _part(cut, unit, known), _whole(value)
                if moment is not None and number is not None:
                    told = cut.sql().replace(unit.upper(), "")
                    found.setdefault(told, {})[unit] = (condition, number, moment)
    for units in found.values():
        if not {"year", "month"} <= set(units):
            continue
        year, month = units["year"][1], units["month"][1]
        day = units["day"][1] if "day" in units else None
        span = _span(year, month, day)
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


def written_out(comparison: exp.Expr, known: Known) -> Turn | None:
    """to_char(c, 'YYYY-MM-DD') = '2026-05-07'  →  c >= that day and c < the next one."""
    for cut, op, value in both_ways(comparison):
        told = called(cut, "date_format")
        if isinstance(cut, exp.TimeToStr):
            told = [cut.this, cut.args["format"]]
        if len(told) != 2 or not isinstance(value, exp.Literal):
            continue
        moment = _moment(told[0], known)
        span = _read(str(value.this), told[1].name)
        if moment is None or span is None:
            continue
        return Turn(moment.in_days(op, *span), _as_range(moment), _AFTER_CHRIST)
    return None


def beginning_of_text(comparison: exp.Expr, known: Known) -> Turn | None:
    """c::text LIKE '2026-05-07%'  →  c >= that day and c < the next one."""
    if not isinstance(comparison, exp.Like):
        return None
    cast, pattern = comparison.this.unnest(), comparison.expression
    if not isinstance(cast, exp.Cast) or not cast.to.is_type("text", "varchar", "char"):
        return None
    moment = _moment(cast.this, known)
    text = str(pattern.this) if isinstance(pattern, exp.Literal) else ""
    told = text[:-1].rstrip("-")
    written = "%Y-%m-%d" if told.count("-") > 1 else "%Y-%m"
    span = _read(told, written) if text.endswith("%") else None
    if moment is None or span is None:
        return None
    return Turn(
        moment.in_days(exp.EQ, *span),
        _as_range(moment),
        f"days are written with the year first, and {_AFTER_CHRIST}",
    )


def in_zone(comparison: exp.Expr, known: Known) -> Turn | None:
    """c AT TIME ZONE 'UTC' >= v  →  c >= v AT TIME ZONE 'UTC'."""
    for side, op, value in both_ways(comparison):
        moment = _moment(side, known)
        if moment is None or moment.zone is None or not is_fixed(value):
            continue
        name = str(moment.zone.this).upper()
        return Turn(
            moment.compared(op, typed(value, "timestamp")),
            f"the value told as a moment of {moment.zone.this}, not {moment.column.name} in its "
            "local time",
            "" if name in _NO_CHANGES else _CLOCKS_STAND,
        )
    return None


def moved_interval(comparison: exp.Expr, known: Known) -> Turn | None:
    """c + interval '1 hour' < v  →  c < v - interval '1 hour'; days of a date likewise."""
    for side, op, value in both_ways(comparison):
        moved = _with_interval(side)
        if not isinstance(moved, exp.Add | exp.Sub) or not is_fixed(value):
            continue
        column, span = moved.this.unnest(), moved.expression.unnest()
        if isinstance(moved, exp.Add) and not known.is_time(column):
            column, span = span, column
        if not known.is_time(column) or not is_fixed(span):
            continue
        type_ = known.type_of(column) if isinstance(column, exp.Column) else ""
        days = type_ == "date" and _whole(span) is not None
        if not days and not _is_interval(span):
            continue
        back = exp.Sub if isinstance(moved, exp.Add) else exp.Add
        given = typed(value, "timestamp" if type_ == "date" and not days else type_)
        return Turn(
            op(this=column.copy(), expression=back(this=given, expression=span.copy())),
            f"{column.name} compared with a time computed from the value",
            "" if days or _is_equally_long(span, type_) else _unequal(),
        )
    return None


def clock(comparison: exp.Expr, known: Known) -> Turn | None:
    """now() - c < v  →  c > now() - v; age(c) and days since c likewise."""
    for side, op, span in both_ways(comparison):
        if not is_fixed(span):
            continue
        now, column, by_age = _since(side)
        if now is None or not known.is_time(column):
            continue
        is_day = isinstance(column, exp.Column) and known.type_of(column) == "date"
        if is_day and not by_age and _whole(span) is None:
            continue
        exact = not by_age and (is_day or _is_equally_long(span, "with time zone"))
        return Turn(
            TURNED[op](this=column.copy(), expression=exp.Sub(this=now, expression=span.copy())),
            f"{column.name} compared with a time computed from now",
            "" if exact else _unequal(),
        )
    return None


def days_since(comparison: exp.Expr, known: Known) -> Turn | None:
    """datediff(now(), c) < 7  →  c >= today - 6 days, where that counts midnights."""
    for side, op, count in both_ways(comparison):
        days = _whole(count)
        if not isinstance(side, exp.DateDiff) or side.args.get("unit") or days is None:
            continue
        moment = _moment(side.expression, known)
        if moment is None or not is_fixed(side.this):
            continue
        day = exp.CurrentDate()
        begin, end = (
            exp.Sub(
                this=day.copy(),
                expression=exp.Interval(this=exp.Literal.string(str(n)), unit=exp.var("day")),
            )
            for n in (days, days - 1)
        )
        return Turn(
            moment.in_span(TURNED[op], begin, end),
            f"{moment.column.name} compared with a day computed from today",
        )
    return None


def seconds(comparison: exp.Expr, known: Known) -> Turn | None:
    """extract(epoch FROM c) > n  →  c > to_timestamp(n), for moments with a zone."""
    for cut, op, value in both_ways(comparison):
        moment = _part(cut, "epoch", known)
        if moment is None or moment.zone is not None or not is_fixed(value):
            continue
        if known.type_of(moment.column).endswith("with time zone"):
            return Turn(
                op(this=moment.column.copy(), expression=exp.UnixToTime(this=value.copy())),
                f"the value told as a moment, not {moment.column.name} in seconds",
            )
    return None


def _since(side: exp.Expr) -> tuple[exp.Expr | None, exp.Expr, bool]:
    """The clock and the column of a time that has passed since; whether a calendar counts it."""
    if isinstance(side, exp.Sub):
        now, column = side.this.unnest(), side.expression.unnest()
        is_clock = isinstance(now, exp.CurrentTimestamp | exp.CurrentDate)
        return (now.copy() if is_clock else None), column, False
    given = called(side, "age")
    if len(given) == 1:
        return exp.CurrentDate(), given[0], True
    if len(given) == 2:
        now = given[0].this.unnest() if isinstance(given[0], exp.Cast) else given[0]
        is_clock = isinstance(now, exp.CurrentTimestamp | exp.CurrentDate)
        return (now.copy() if is_clock else None), given[1], True
    return None, side, False


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


def _part(cut: exp.Expr, unit: str, known: Known) -> _Moment | None:
    """The moment of which a comparison tests the year, the month, the day, or the seconds."""
    if isinstance(cut, exp.Extract) and str(cut.this).lower() == unit:
        return _moment(cut.expression, known)
    if isinstance(cut, _PARTS.get(unit, ())):
        return _moment(cut.this, known)
    inner = called(cut, unit, *(("dayofmonth",) if unit == "day" else ()))
    return _moment(inner[0], known) if inner else None


def _span(year: int, month: int, day: int | None) -> tuple[date, date] | None:
    """The first day of a month or a day, and the first one after it; None where there is none."""
    try:
        first = date(year, month, day or 1)
        if day is not None:
            return first, first + timedelta(days=1)
        return first, date(year + month // 12, month % 12 + 1, 1)
    except (ValueError, OverflowError):
        return None


def _read(text: str, written: str) -> tuple[date, date] | None:
    """The days that a text means in a way of writing them; None where it means none."""
    pattern, unit = _WRITTEN.get(written, ("", ""))
    found = re.fullmatch(pattern, text) if pattern else None
    if found is None:
        return None
    numbers = [int(each) for each in found.groups()]
    if unit == "year":
        year = numbers[0]
        return (date(year, 1, 1), date(year + 1, 1, 1)) if 1 <= year < date.max.year else None
    return _span(numbers[0], numbers[1], numbers[2] if unit == "day" else None)


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
        return _is_day(value.this.unnest()) and _whole(value.expression) is not None
    if isinstance(value, exp.Literal):
        return bool(re.fullmatch(_DAY, value.name))
    return value.is_type("date") or isinstance(value, exp.CurrentDate | exp.Parameter)


def _is_equally_long(span: exp.Expr, type_: str) -> bool:
    """Whether an interval is as long everywhere; days are where no clocks are put back."""
    text = span.sql(dialect=DIALECT)
    days = not type_.endswith("with time zone") and bool(_DAYS.fullmatch(text))
    return days or bool(_EQUALLY_LONG.fullmatch(text))


def _is_interval(span: exp.Expr) -> bool:
    return isinstance(span, exp.Interval) or (
        isinstance(span, exp.Cast) and span.to.is_type("interval")
    )


def _with_interval(side: exp.Expr) -> exp.Expr:
    """date_add(c, interval 1 day) as c + interval 1 day."""
    if not isinstance(side, exp.DateAdd | exp.DateSub):
        return side
    span = side.expression
    if not isinstance(span, exp.Interval):
        span = exp.Interval(this=span.copy(), unit=side.args.get("unit"))
    kind = exp.Add if isinstance(side, exp.DateAdd) else exp.Sub
    return kind(this=side.this.copy(), expression=span.copy())


def _unequal() -> str:
    return (
        "the interval has no months or years, nor days over which clocks were changed "
        "(these are not all equally long)"
    )


def _as_range(moment: _Moment) -> str:
    return f"{moment.column.name} compared with days, not with a text"


def _day(day: date) -> exp.Expr:
    return exp.cast(exp.Literal.string(day.isoformat()), "date")


def _bracketed(value: exp.Expr) -> exp.Expr:
    return exp.paren(value) if isinstance(value, exp.Add | exp.Sub) else value


def _whole(value: exp.Expr) -> int | None:
    """A plain whole number."""
    inner = value.unnest()
    is_number = isinstance(inner, exp.Literal) and not inner.is_string
    return int(inner.name) if is_number and inner.name.isdigit() else None
