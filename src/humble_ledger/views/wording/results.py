"""Results of trials: whether both sides gave the same, and in what they differ."""

from __future__ import annotations

from humble_ledger.views.numbers import Numbers
from humble_ledger.views.wording.parts import listed


def same_rows(n: Numbers, *, rows: int, ordered: bool) -> str:
    order = "in the same order" if ordered else "order not asked for"
    return f"the same {n.whole(rows)} {'row' if rows == 1 else 'rows'}, {order}"


def only_ties_changed_places(n: Numbers) -> str:
    return "the same rows; those that tie in the order asked for changed places"


def same_but_for_last_digits(n: Numbers, *, rows: int, most: float) -> str:
    return (
        f"the same {n.whole(rows)} rows but for the last digits of fractions (relative difference "
        f"at most {n.digits(most, 1)})"
    )


def other_number_of_columns(n: Numbers, *, before: int, after: int) -> str:
    return f"the number of columns differs: {before} before, {after} after"


def other_number_of_rows(n: Numbers, *, before: int, after: int) -> str:
    return f"the number of rows differs: {n.whole(before)} before, {n.whole(after)} after"


def other_number_of_rows_changed(n: Numbers, *, before: int, after: int) -> str:
    return f"the number of rows changed differs: {n.whole(before)} before, {n.whole(after)} after"


def changed_alike(n: Numbers, *, rows: int, returned: str) -> str:
    return f"{n.whole(rows)} rows changed on both sides, and taken back; {returned}"


def values_differ(n: Numbers, *, rows: int) -> str:
    return f"the values differ: {n.whole(rows)} rows each, not the same rows"


def rows_differ(n: Numbers, *, rows: int, of: int) -> str:
    return f"{n.whole(rows)} of {n.whole(of)} rows differ"


def ties_differ(n: Numbers, *, rows: int, of: int) -> str:
    return (
        f"{rows_differ(n, rows=rows, of=of)}, all of them ties in the order asked for: the "
        "statement leaves open which of these come first; order by one more column that tells "
        "them apart"
    )


def any_rows_would_do(n: Numbers, *, rows: int, of: int) -> str:
    return (
        f"{rows_differ(n, rows=rows, of=of)}: the statement asks for {n.whole(of)} of those that "
        "match, in no order, so that others may come each time"
    )


def results_differ(
    n: Numbers, *, head: str, repeated: bool, gone: str | None, new: str | None
) -> str:
    told = [head]
    if repeated:
        told.append("the same rows come a different number of times")
    told += [f"only before: {gone}"] if gone else []
    told += [f"only after: {new}"] if new else []
    return listed(told, "; ")


def rows_quoted(n: Numbers, *, values: list[str], more: int) -> str:
    others = f" and {n.whole(more)} more" if more else ""
    return " | ".join(f"({text})" for text in values) + others


def another_order_asked_for(n: Numbers, *, asked: list[str], new: list[str]) -> str:
    return (
        f"the same rows in another order: asked for is {listed(asked)}, the new text has "
        f"{listed(new) or 'no order'}"
    )


def another_order_than_asked_for(n: Numbers, *, row: int) -> str:
    return f"the same rows in another order than asked for, from row {n.whole(row)} on"
