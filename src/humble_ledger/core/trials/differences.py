"""Two results that are not the same: in what they differ, and why that may be."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable, Sequence

from humble_ledger.core.messages import Message, message
from humble_ledger.core.statements.ordering import OrderAsked
from humble_ledger.core.trials.results import ResultComparison

Row = tuple[bytes | None, ...]
MOST_ROWS = 200_000  # compared one by one
SHOWN = 2
MOST_CHARACTERS = 60
LAST_DIGITS = 1e-12  # relative difference, up to which it is one of rounding


def explain_difference(
    before: Sequence[Row],
    after: Sequence[Row],
    asked: OrderAsked,
    *,
    show: bool = True,
    one_text: bool = False,
    ties: bool = False,
) -> ResultComparison:
    """Why two results differ; the same after all when only last digits of fractions do.

    ``show`` lets a few of the rows be quoted. What ``one_text`` leaves open may come otherwise each
    time: which of the ``ties`` at the end of a LIMIT, and which rows at all where it asks for no
    order.
    """
    if before and after and len(before[0]) != len(after[0]):
        return ResultComparison(
            False,
            message("other-number-of-columns", before=len(before[0]), after=len(after[0])),
        )
    gone = list((Counter(before) - Counter(after)).elements())
    new = list((Counter(after) - Counter(before)).elements())
    if len(before) == len(after):
        rounded = _rounding(gone, new)
        if rounded is not None:
            return ResultComparison(
                True,
                message("same-but-for-last-digits", rows=len(before), most=rounded),
            )
        shown = asked.limited and asked.places and _keys(gone, asked) == _keys(new, asked)
        if shown or ties:
            told = message("ties-differ", rows=len(gone), of=len(before))
            return ResultComparison(one_text, told)
        if one_text and asked.limited and not asked.terms:
            told = message("any-rows-would-do", rows=len(gone), of=len(before))
            return ResultComparison(True, told)
        head = message("rows-differ", rows=len(gone), of=len(before))
    else:
        head = message("other-number-of-rows", before=len(before), after=len(after))
    return ResultComparison(
        False,
        message(
            "results-differ",
            head=head,
            repeated=set(before) == set(after),
            gone=_quoted(gone) if show and gone else None,
            new=_quoted(new) if show and new else None,
        ),
    )


def explain_order(
    before: Iterable[Row], after: Iterable[Row], asked: OrderAsked, new: OrderAsked
) -> ResultComparison:
    """The same rows in two orders, of two texts: whether only ties changed places.

    ``asked`` is the order the old text asks for, ``new`` that of the new one. Where the columns
    ordered by are shown, they must come in the same order; where not, the texts must ask for
    the same.
    """
    ties = ResultComparison(True, message("only-ties-changed-places"))
    if not asked.places:
        if asked.terms == new.terms:
            return ties
        return ResultComparison(
            False,
            message("another-order-asked-for", asked=asked.terms, new=new.terms),
        )
    for number, (one, other) in enumerate(zip(before, after, strict=True), 1):
        if any(one[place] != other[place] for place in asked.places):
            return ResultComparison(
                False,
                message("another-order-than-asked-for", row=number),
            )
    return ties


def _keys(rows: list[Row], asked: OrderAsked) -> Counter[Row]:
    return Counter(tuple(row[place] for place in asked.places) for row in rows)


def _rounding(gone: list[Row], new: list[Row]) -> float | None:
    """The largest relative difference of numbers that pair up; None when rows really differ."""
    if not gone or len(gone) != len(new):
        return None
    largest = 0.0
    for one, other in zip(sorted(gone, key=_rough), sorted(new, key=_rough), strict=True):
        for a, b in zip(one, other, strict=True):
            if a == b:
                continue
            x, y = _fraction(a), _fraction(b)
            if x is None or y is None:
                return None
            apart = abs(x - y) / max(abs(x), abs(y))
            if apart > LAST_DIGITS:
                return None
            largest = max(largest, apart)
    return largest


def _rough(row: Row) -> tuple[str, ...]:
    """A row with its fractions cut to digits that rounding does not reach."""
    return tuple(
        f"{number:.9e}" if (number := _fraction(value)) is not None else repr(value)
        for value in row
    )


def _fraction(value: bytes | None) -> float | None:
    """A number with a fraction; None for whole numbers and all else."""
    if value is None or not any(mark in value for mark in (b".", b"e", b"E")):
        return None
    try:
        number = float(value)
    except ValueError:
        return None
    return number if math.isfinite(number) and number != 0 else None


def _quoted(rows: list[Row]) -> Message:
    texts = [
        ", ".join("NULL" if v is None else v.decode(errors="replace") for v in row)
        for row in rows[:SHOWN]
    ]
    cut = [t if len(t) <= MOST_CHARACTERS else f"{t[: MOST_CHARACTERS - 1]}…" for t in texts]
    return message("rows-quoted", values=cut, more=max(0, len(rows) - SHOWN))
