"""Times computed from a column: from its zone, an interval, or the present."""

from __future__ import annotations

import re

from sqlglot import exp

from humble_ledger.core.statements.sql_dialect import DIALECT
from humble_ledger.core.statements.turned.model import (
    TURNED,
    Known,
    Turn,
    both_ways,
    called,
    is_fixed,
    typed,
)
from humble_ledger.core.statements.turned.moments import moment_of, plain_whole

_NO_CHANGES = ("UTC", "GMT", "ETC/UTC", "ETC/GMT", "ZULU", "UNIVERSAL", "+00:00")
_CLOCKS_STAND = "no clock is put forward or back near the value"
# An interval whose length hangs on no calendar.
_EQUALLY_LONG = re.compile(
    r"INTERVAL '[\d.]+ (?:HOUR|MINUTE|SECOND|MILLISECOND)S?'|"
    r"(?:CAST\()?'\d+:\d\d(?::\d\d)?'(?:::| AS )INTERVAL\)?",
    re.IGNORECASE,
)
_UNEQUAL = (
    "the interval has no months or years, nor days over which clocks were changed "
    "(these are not all equally long)"
)
_OF_MONTHS = re.compile(r"mon|year|decade|centur|millenni|\bP[\d.]+[YM]", re.IGNORECASE)
_NONE_NEAR = "no row lies within days of the limit (months are not equally long)"
_BY_SESSION = re.compile(r"timestamp(\(\d\))?")  # some servers keep it by the session's zone
_DAYS = re.compile(
    r"INTERVAL '\d+ (?:DAY|WEEK)S?'|(?:CAST\()?'\d+ days?'(?:::| AS )INTERVAL\)?", re.IGNORECASE
)


def in_zone(comparison: exp.Expr, known: Known) -> Turn | None:
    """c AT TIME ZONE 'UTC' >= v  →  c >= v AT TIME ZONE 'UTC'; of local times as of moments."""
    for side, op, value in both_ways(comparison):
        moment = moment_of(side, known)
        local = _local_time(side, known) if moment is None and is_fixed(value) else None
        if local is not None:
            column, zone = local
            told = exp.AtTimeZone(this=typed(value, "timestamptz"), zone=zone.copy())
            return Turn(
                op(this=column.copy(), expression=told),
                f"the value told in the local time of {zone.this}, not {column.name} as a moment",
                "" if str(zone.this).upper() in _NO_CHANGES else _CLOCKS_STAND,
            )
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


def _local_time(side: exp.Expr, known: Known) -> tuple[exp.Column, exp.Literal] | None:
    """A column without a zone that is told to be in one, and the zone; None for all else."""
    inner = side.unnest()
    if not isinstance(inner, exp.AtTimeZone) or not isinstance(inner.args["zone"], exp.Literal):
        return None
    column = inner.this.unnest()
    if not isinstance(column, exp.Column) or not known.type_of(column).startswith("timestamp"):
        return None
    zoned = known.type_of(column).endswith("with time zone")
    return None if zoned else (column, inner.args["zone"])


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
        days = type_ == "date" and plain_whole(span) is not None
        if not days and not _is_interval(span):
            continue
        back = exp.Sub if isinstance(moved, exp.Add) else exp.Add
        given = typed(value, "timestamp" if type_ == "date" and not days else type_)
        return Turn(
            op(this=column.copy(), expression=back(this=given, expression=span.copy())),
            f"{column.name} compared with a time computed from the value",
            "" if days or _is_equally_long(span, type_) else _unless_unequal(span),
        )
    return None


def clock(comparison: exp.Expr, known: Known) -> Turn | None:
    """now() - c < v  →  c > now() - v; age(c), days since c, and from any fixed moment likewise."""
    for side, op, span in both_ways(comparison):
        if not is_fixed(span):
            continue
        now, column, by_age = _since(side)
        if now is None or not known.is_time(column):
            continue
        is_day = isinstance(column, exp.Column) and known.type_of(column) == "date"
        if is_day and not by_age and plain_whole(span) is None:
            continue
        since = "now" if _is_clock(now) else "the given one"
        exact = not by_age and (is_day or _is_equally_long(span, "with time zone"))
        return Turn(
            TURNED[op](this=column.copy(), expression=exp.Sub(this=now, expression=span.copy())),
            f"{column.name} compared with a time computed from {since}",
            "" if exact else _unless_unequal(span, by_age=by_age),
        )
    return None


def days_since(comparison: exp.Expr, known: Known) -> Turn | None:
    """datediff(now(), c) < 7  →  c >= today - 6 days, where that counts midnights."""
    for side, op, count in both_ways(comparison):
        days = plain_whole(count)
        if not isinstance(side, exp.DateDiff) or side.args.get("unit") or days is None:
            continue
        moment = moment_of(side.expression, known)
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


def _since(side: exp.Expr) -> tuple[exp.Expr | None, exp.Expr, bool]:
    """The moment and the column of a time that has passed since; whether a calendar counts it."""
    if isinstance(side, exp.Sub):
        now, column = side.this.unnest(), side.expression.unnest()
        return (now.copy() if _is_moment(now) else None), column, False
    given = called(side, "age")
    if len(given) == 1:
        return exp.CurrentDate(), given[0], True
    if len(given) == 2:
        now = given[0].this.unnest() if _is_clock(given[0]) else given[0]
        return (now.copy() if _is_moment(now) else None), given[1], True
    return None, side, False


def _is_clock(part: exp.Expr) -> bool:
    """Whether an expression is the present, or that converted to another type."""
    bare = part.this.unnest() if isinstance(part, exp.Cast) else part
    return isinstance(bare, exp.CurrentTimestamp | exp.CurrentDate)


def _is_moment(part: exp.Expr) -> bool:
    """Whether it is the present, or a day or moment that is told to be one."""
    told = isinstance(part, exp.Cast) and part.to.is_type("date", "timestamp", "timestamptz")
    return (told and is_fixed(part)) or _is_clock(part)


def _unless_unequal(span: exp.Expr, *, by_age: bool = False) -> str:
    """What must hold for an interval that may hang on the calendar.

    One of months is known to, and age() counts days beyond the first month in months, too.
    """
    text = span.sql(dialect=DIALECT)
    short = bool(_EQUALLY_LONG.fullmatch(text))
    return _NONE_NEAR if _OF_MONTHS.search(text) or (by_age and not short) else _UNEQUAL


def _is_equally_long(span: exp.Expr, type_: str) -> bool:
    """Whether an interval is as long everywhere; days are where no clocks are put back."""
    if _BY_SESSION.fullmatch(type_):
        return False  # computed in the session's local time, whose clocks may be put back
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
