"""Texts: a beginning that is cut out compared by LIKE, and conversions of the other side."""

from __future__ import annotations

from collections.abc import Iterator

from sqlglot import exp

from humble_ledger.core.statements.sql_dialect import DIALECT
from humble_ledger.core.statements.turned.model import Known, Turn, both_ways, is_fixed

_OF_PATTERNS = ("%", "_", "\\")


def beginning(comparison: exp.Expr, known: Known) -> Turn | None:
    """left(c, 3) = 'abc'  →  c LIKE 'abc%', and likewise for what is found at the first place."""
    if not known.dialect.like_tells_case or not isinstance(comparison, exp.EQ):
        return None
    for cut, _, value in both_ways(comparison):
        column, text, length = _cut_text(cut, value)
        if not known.is_text(column) or not text or any(each in text for each in _OF_PATTERNS):
            continue
        if length < len(text):
            continue  # no row can match; not ours to say so silently
        exact = length > len(text)
        instead = (
            exp.EQ(this=column.copy(), expression=exp.Literal.string(text))
            if exact
            else exp.Like(this=column.copy(), expression=exp.Literal.string(f"{text}%"))
        )
        return Turn(instead, f"{column.name} compared {'as it is' if exact else 'by LIKE'}")
    return None


def _cut_text(cut: exp.Expr, value: exp.Expr) -> tuple[exp.Expr, str, int]:
    """The column, the text its beginning must be, and the length that is cut out."""
    text = value.name if isinstance(value, exp.Literal) and value.is_string else ""
    if isinstance(cut, exp.Left):
        return cut.this.unnest(), text, _length(cut.expression)
    if isinstance(cut, exp.Substring) and _length(cut.args.get("start")) == 1:
        return cut.this.unnest(), text, _length(cut.args.get("length"))
    if isinstance(cut, exp.StrPosition) and _length(value) == 1:
        sought = cut.args["substr"]
        found = sought.name if isinstance(sought, exp.Literal) and sought.is_string else ""
        return cut.this.unnest(), found, len(found)
    return cut, "", 0


def contained(comparison: exp.Expr, known: Known) -> Turn | None:
    """position('abc' in c) > 0  →  c LIKE '%abc%', which an index from parts of texts finds."""
    if not known.dialect.like_tells_case:
        return None
    for place, op, value in _places(comparison):
        sought = place.args["substr"].unnest()
        column = place.this.unnest()
        text = sought.name if isinstance(sought, exp.Literal) and sought.is_string else ""
        if place.args.get("position") or place.args.get("occurrence") or not known.is_text(column):
            continue
        if not text or any(each in text for each in _OF_PATTERNS):
            continue
        if (op, value) in ((exp.GT, "0"), (exp.GTE, "1"), (exp.NEQ, "0")):
            like = exp.Like(this=column.copy(), expression=exp.Literal.string(f"%{text}%"))
            return Turn(like, f"the text looked for in {column.name} by LIKE")
    return None


def _places(comparison: exp.Expr) -> Iterator[tuple[exp.StrPosition, type[exp.Expr], str]]:
    """The place of a text within another, and the number that it is compared with."""
    sides: list[tuple[exp.Expr, type[exp.Expr], exp.Expr]] = list(both_ways(comparison))
    if isinstance(comparison, exp.NEQ):
        sides = [(comparison.this.unnest(), exp.NEQ, comparison.expression.unnest())]
    for side, op, value in sides:
        if isinstance(side, exp.StrPosition) and isinstance(value, exp.Literal):
            yield side, op, value.name


def _length(value: exp.Expr | None) -> int:
    is_number = isinstance(value, exp.Literal) and not value.is_string
    return int(value.name) if value is not None and is_number and value.name.isdigit() else 0


def with_nothing(comparison: exp.Expr, known: Known) -> Turn | None:
    """c || '' = v  →  c = v."""
    for side, op, value in both_ways(comparison):
        if not isinstance(side, exp.DPipe):
            continue
        column, added = side.this.unnest(), side.expression
        empty = isinstance(added, exp.Literal) and added.is_string and not added.name
        if empty and known.is_text(column):
            return Turn(
                op(this=column.copy(), expression=value.copy()), f"nothing added to {column.name}"
            )
    return None


def padded(comparison: exp.Expr, known: Known) -> Turn | None:
    """c::text = 'abc'  →  c = 'abc', where c is filled up with blanks, which neither counts."""
    if not isinstance(comparison, exp.EQ):
        return None
    for cast, _, value in both_ways(comparison):
        if not isinstance(cast, exp.Cast) or not known.is_padded(cast.this.unnest()):
            continue
        column = cast.this.unnest()
        text = value.name if isinstance(value, exp.Literal) and value.is_string else " "
        if cast.to.is_type("text", "varchar") and not cast.to.expressions and text[-1:] != " ":
            return Turn(
                exp.EQ(this=column.copy(), expression=value.copy()),
                f"{column.name} compared as it is, not as text",
            )
    return None


def label(comparison: exp.Expr, known: Known) -> Turn | None:
    """c::text = 'paid'  →  c = 'paid', where that is a label: no other text can be compared so."""
    if not isinstance(comparison, exp.EQ):
        return None
    for cast, _, value in both_ways(comparison):
        if not isinstance(cast, exp.Cast):
            continue
        column = cast.this.unnest()
        if not isinstance(column, exp.Column) or not known.labelled(column):
            continue
        text = isinstance(value, exp.Literal) and value.is_string
        if not (text or isinstance(value, exp.Parameter)) or not cast.to.is_type("text", "varchar"):
            continue
        if cast.to.expressions:
            continue  # varchar(3) would cut the label
        return Turn(
            exp.EQ(this=column.copy(), expression=value.copy()),
            f"{column.name} compared as a label, not as text",
            "" if text else f"the value is always a label of {column.name}'s type",
        )
    return None


def own_type(comparison: exp.Expr, known: Known) -> Turn | None:
    """c::text = v  →  c = v::bigint: the other side is converted, not every value of c."""
    if not isinstance(comparison, exp.EQ):
        return None
    for cast, _, value in both_ways(comparison):
        if not isinstance(cast, exp.Cast) or not known.is_whole(cast.this.unnest()):
            continue
        column = cast.this.unnest()
        to_text = cast.to.is_type("text", "varchar")
        if not to_text or next(value.find_all(exp.Subquery), None):
            continue
        if isinstance(value, exp.Cast) and isinstance(value.this.unnest(), exp.Column):
            continue  # both sides are converted: which one is small is not known
        named = "the value" if is_fixed(value) else value.sql(dialect=DIALECT)
        type_ = exp.DataType.build(known.type_of(column), dialect=DIALECT)
        return Turn(
            exp.EQ(this=column.copy(), expression=exp.cast(value.copy(), type_)),
            f"{named} converted to the type of {column.name}, not {column.name} to text",
            f"{named} is always a whole number, written without leading zeros",
        )
    return None
