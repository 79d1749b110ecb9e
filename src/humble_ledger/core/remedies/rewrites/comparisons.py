"""Comparisons turned so that the bare column stands alone on its side."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.remedies.rewrites.model import Rewriting
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.statements.sql_dialect import DIALECT

_WHOLE = ("smallint", "integer", "bigint")
_UNITS = ("MINUTE", "HOUR", "DAY", "WEEK", "MONTH", "QUARTER", "YEAR")
_TURNED: Mapping[type[exp.Expr], type[exp.Expr]] = {
    exp.LT: exp.GT, exp.LTE: exp.GTE, exp.GT: exp.LT, exp.GTE: exp.LTE,
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Turn:
    """What takes a comparison's place."""

    instead: exp.Expr
    done: str
    same_when: str


TypeOf = Callable[[exp.Column], str]


def rewritings(
    sql: str, tables: Mapping[TableName, TableFacts], dialect: Dialect
) -> Iterator[Rewriting]:
    """The statement with each comparison turned that keeps an index from being used.

    All that can be turned is turned at once; nothing is given when there is none, or when the
    statement cannot be read.
    """
    try:
        tree = sqlglot.parse_one(sql, dialect=dialect.parser)
    except (SqlglotError, RecursionError):
        return
    turns: list[_Turn] = []

    def type_of(column: exp.Column) -> str:
        return _type_of(tree, column, tables)

    for comparison in list(tree.find_all(exp.EQ, exp.NullSafeEQ, *_TURNED)):
        for rule in (_whole_unit, _whole_day, _whole_number, _own_type, _clock, _null_safe):
            turn = rule(comparison, type_of)
            if turn is not None:
                comparison.replace(turn.instead)
                turns.append(turn)
                break
    if turns:
        yield Rewriting(
            tree.sql(dialect=dialect.parser),
            "; ".join(dict.fromkeys(turn.done for turn in turns)),
            "; ".join(dict.fromkeys(turn.same_when for turn in turns if turn.same_when)),
        )


def _whole_unit(comparison: exp.Expr, type_of: TypeOf) -> _Turn | None:
    """date_trunc('day', c) = v  →  c >= v and c < v + one day."""
    if not isinstance(comparison, exp.EQ):
        return None
    for cut, value in _both_ways(comparison):
        if not isinstance(cut, exp.TimestampTrunc | exp.DateTrunc) or not _is_fixed(value):
            continue
        column, unit = cut.this, str(cut.args["unit"].name).strip("'").upper()
        type_ = type_of(column) if isinstance(column, exp.Column) else ""
        if unit not in _UNITS or not type_.startswith(("timestamp", "date")):
            return None
        span = "3 months" if unit == "QUARTER" else f"1 {unit.lower()}"
        begin = _typed(value, type_)
        end = exp.Add(this=begin.copy(), expression=exp.Interval(this=exp.Literal.string(span)))
        return _Turn(
            exp.paren(
                exp.and_(
                    exp.GTE(this=column.copy(), expression=begin),
                    exp.LT(this=column.copy(), expression=end),
                )
            ),
            f"{column.name} compared with the beginning and the end of the {unit.lower()}",
            f"the value is the beginning of a {unit.lower()} (else the old statement has no row)",
        )
    return None


def _whole_day(comparison: exp.Expr, type_of: TypeOf) -> _Turn | None:
    """date(c) = v  →  c >= v and c < v + one day; year(c) = 2026 between two first days."""
    if not isinstance(comparison, exp.EQ):
        return None
    for cut, value in _both_ways(comparison):
        name = str(cut.this).lower() if isinstance(cut, exp.Anonymous) else ""
        if name not in ("date", "year") or len(cut.expressions) != 1 or not _is_fixed(value):
            continue
        column = cut.expressions[0]
        type_ = type_of(column) if isinstance(column, exp.Column) else ""
        if not type_.startswith(("datetime", "timestamp", "date")):
            return None
        if name == "year":
            if not isinstance(value, exp.Literal) or not value.is_int:
                return None
            first: exp.Expr = exp.Literal.string(f"{int(value.name):04}-01-01")
            end: exp.Expr = exp.Literal.string(f"{int(value.name) + 1:04}-01-01")
        else:
            first = exp.cast(value.copy(), "date")
            one = exp.Interval(this=exp.Literal.number(1), unit=exp.var("DAY"))
            end = exp.Add(this=first.copy(), expression=one)
        return _Turn(
            exp.paren(
                exp.and_(
                    exp.GTE(this=column.copy(), expression=first),
                    exp.LT(this=column.copy(), expression=end),
                )
            ),
            f"{column.name} compared with the beginning and the end of the "
            f"{'year' if name == 'year' else 'day'}",
            "" if name == "year" else "the value is a day without a time of day",
        )
    return None


def _whole_number(comparison: exp.Expr, type_of: TypeOf) -> _Turn | None:
    """c = 918273.0  →  c = 918273, for a column of whole numbers."""
    for column, value in _both_ways(comparison):
        if not isinstance(column, exp.Column) or not isinstance(value, exp.Literal):
            continue
        text = str(value.this)
        if value.is_string or not text.replace(".", "", 1).isdigit() or "." not in text:
            continue
        whole, _, rest = text.partition(".")
        if rest.strip("0") or not whole or not type_of(column).startswith(_WHOLE):
            continue
        instead = comparison.copy()
        literal = next(each for each in instead.find_all(exp.Literal) if str(each.this) == text)
        literal.replace(exp.Literal.number(whole))
        return _Turn(
            instead,
            f"{column.name} compared with a number of its own type",
            "the value is a whole number, as here",
        )
    return None


def _own_type(comparison: exp.Expr, type_of: TypeOf) -> _Turn | None:
    """c::text = v  →  c = v::bigint: the other side is converted, not every value of c."""
    if not isinstance(comparison, exp.EQ):
        return None
    for cast, value in _both_ways(comparison):
        if not isinstance(cast, exp.Cast) or not isinstance(cast.this.unnest(), exp.Column):
            continue
        column = cast.this.unnest()
        type_ = type_of(column)
        to_text = cast.to.is_type("text", "varchar")
        if not type_.startswith(_WHOLE) or not to_text or next(value.find_all(exp.Subquery), None):
            continue
        if isinstance(value, exp.Cast) and isinstance(value.this.unnest(), exp.Column):
            continue  # both sides are converted: which one is small is not known
        other = value.copy()
        named = "the value" if _is_fixed(value) else value.sql(dialect=DIALECT)
        return _Turn(
            exp.EQ(
                this=column.copy(),
                expression=exp.cast(other, exp.DataType.build(type_, dialect=DIALECT)),
            ),
            f"{named} converted to the type of {column.name}, not {column.name} to text",
            f"{named} is always a whole number, written without leading zeros",
        )
    return None


# An interval whose length hangs on no calendar.
_EQUALLY_LONG = re.compile(
    r"INTERVAL '[\d.]+ (?:HOUR|MINUTE|SECOND|MILLISECOND)S?'|"
    r"(?:CAST\()?'\d+:\d\d(?::\d\d)?'(?:::| AS )INTERVAL\)?",
    re.IGNORECASE,
)


def _clock(comparison: exp.Expr, type_of: TypeOf) -> _Turn | None:
    """now() - c < v  →  c > now() - v."""
    turned = _TURNED.get(type(comparison))
    minus, span = comparison.this.unnest(), comparison.expression
    if turned is None or not isinstance(minus, exp.Sub) or not _is_fixed(span):
        return None
    clock, column = minus.this.unnest(), minus.expression.unnest()
    if not isinstance(clock, exp.CurrentTimestamp) or not isinstance(column, exp.Column):
        return None
    if not type_of(column).startswith("timestamp"):
        return None
    return _Turn(
        turned(this=column.copy(), expression=exp.Sub(this=clock.copy(), expression=span.copy())),
        f"{column.name} compared with a time computed from now",
        ""
        if _EQUALLY_LONG.fullmatch(span.sql(dialect=DIALECT))
        else "the interval has no months or years, nor days over which clocks were changed "
        "(these are not all equally long)",
    )


def _null_safe(comparison: exp.Expr, type_of: TypeOf) -> _Turn | None:
    """c IS NOT DISTINCT FROM v  →  c = v, for a value that is not NULL."""
    if not isinstance(comparison, exp.NullSafeEQ):
        return None
    for column, value in _both_ways(comparison):
        known = isinstance(value, exp.Literal)
        if isinstance(column, exp.Column) and (known or isinstance(value, exp.Parameter)):
            return _Turn(
                exp.EQ(this=column.copy(), expression=value.copy()),
                f"{column.name} compared by =",
                "" if known else "the value is not NULL",
            )
    return None


def _both_ways(comparison: exp.Expr) -> tuple[tuple[exp.Expr, exp.Expr], ...]:
    one, other = comparison.this.unnest(), comparison.expression.unnest()
    return (one, other), (other, one)


def _is_fixed(value: exp.Expr) -> bool:
    """Whether a value is the same for every row: no column, no function that could change it."""
    return next(value.find_all(exp.Column, exp.Subquery, exp.Anonymous), None) is None


def _typed(value: exp.Expr, type_: str) -> exp.Expr:
    if isinstance(value, exp.Literal | exp.Parameter):
        return exp.cast(value.copy(), exp.DataType.build(type_, dialect=DIALECT))
    return value.copy()


def _type_of(tree: exp.Expr, column: exp.Column, tables: Mapping[TableName, TableFacts]) -> str:
    """The type of a column by its table's facts; "" when it could be of several tables."""
    aliases = {t.alias_or_name: t.name for t in tree.find_all(exp.Table)}
    named = aliases.get(column.table, column.table)
    types = {
        facts.columns[column.name].type_name
        for name, facts in tables.items()
        if column.name in facts.columns and named in ("", name.name)
    }
    return types.pop() if len(types) == 1 else ""
