"""Days that are written out as texts: compared as the days that they are."""

from __future__ import annotations

import re
from datetime import date

from sqlglot import exp

from humble_ledger.core.statements.turned.model import Known, Turn, both_ways, called
from humble_ledger.core.statements.turned.moments import Moment, days_of, moment_of

# Of a text that begins with its year: what each writing of a day or of a part of one tells.
_WRITTEN = {
    "%Y": (r"(\d{4})", "year"),
    "%Y-%m": (r"(\d{4})-(\d\d)", "month"),
    "%Y%m": (r"(\d{4})(\d\d)", "month"),
    "%Y-%m-%d": (r"(\d{4})-(\d\d)-(\d\d)", "day"),
    "%Y%m%d": (r"(\d{4})(\d\d)(\d\d)", "day"),
}
_AFTER_CHRIST = "no year lies before the year 1"


def written_out(comparison: exp.Expr, known: Known) -> Turn | None:
    """to_char(c, 'YYYY-MM-DD') = '2026-05-07'  →  c >= that day and c < the next one."""
    for cut, op, value in both_ways(comparison):
        told = called(cut, "date_format")
        if isinstance(cut, exp.TimeToStr):
            told = [cut.this, cut.args["format"]]
        if len(told) != 2 or not isinstance(value, exp.Literal):
            continue
        moment = moment_of(told[0], known)
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
    moment = moment_of(cast.this, known)
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
    return days_of(numbers[0], numbers[1], numbers[2] if unit == "day" else None)


def _as_range(moment: Moment) -> str:
    return f"{moment.column.name} compared with days, not with a text"
