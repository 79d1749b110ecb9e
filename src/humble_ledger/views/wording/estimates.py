"""Row estimates that are far off, and why."""

from __future__ import annotations

from humble_ledger.views.numbers import Numbers
from humble_ledger.views.wording.parts import listed


def copy_plans_otherwise(n: Numbers, *, there: float, here: float) -> str:
    return (
        f"the copy plans it at cost {n.whole(there)} with nothing supposed, the target at "
        f"{n.whole(here)}"
    )


def row_misestimate(
    n: Numbers,
    *,
    seen: float,
    expected: float,
    factor: float,
    more: bool,
    drives: str | None,
    drives_step: int | None,
) -> str:
    consequence = f"; it drives {drives} (step {drives_step})" if drives else ""
    return (
        f"{n.whole(seen)} rows came, {n.whole(expected)} expected ({n.whole(factor)} times "
        f"{'more' if more else 'fewer'}){consequence}"
    )


def join_estimate(n: Numbers) -> str:
    return "the share of rows that find a match was misestimated"


def recursion_guessed(n: Numbers) -> str:
    return (
        "how many rows each round of a recursion finds is not estimated but taken to be a fixed "
        "multiple of those it begins with"
    )


def never_gathered(n: Numbers, *, table: str) -> str:
    return f"no statistics were ever gathered on {table}"


def no_column_statistics(n: Numbers, *, columns: list[str]) -> str:
    return (
        f"the planner has no statistics of {listed(columns)}, and takes all rows or a fixed share "
        "of them to pass"
    )


def plan_does_not_show_why(n: Numbers) -> str:
    return "the plan alone does not show why"


def see_when_gathered(n: Numbers, *, columns: list[str], table: str) -> str:
    told = f" of {listed(columns)}" if columns else ""
    return (
        f"{plan_does_not_show_why(n)}; see when statistics{told} were gathered on "
        f"{table or 'its tables'}"
    )


def beyond_statistics(
    n: Numbers, *, condition: str, column: str, changed: float, last_value: str | None
) -> str:
    last = "" if last_value is None else f", which end at {last_value}"
    return (
        f'"{condition}" asks for the newest {column}, and {n.whole(changed)} rows changed since '
        f"statistics were gathered{last}"
    )


def expression_without_statistics(n: Numbers, *, expression: str) -> str:
    return f'the planner has no statistics on "{expression}" and guesses'


def value_not_known_beforehand(n: Numbers, *, of_query: bool, condition: str) -> str:
    what = "a sub-query gives the value" if of_query else "the value changes row by row"
    return f'{what} in "{condition}": the planner takes a fixed share of the rows'


def changed_since_gathered(n: Numbers, *, changed: float, table: str, at: str | None) -> str:
    return (
        f"{n.whole(changed)} rows of {table} changed since statistics were gathered"
        f"{f' on {at}' if at else ''}"
    )


def shares_multiplied(n: Numbers, *, columns: list[str]) -> str:
    return f"the planner multiplies the shares of {listed(columns)} as if they were independent"


def correlated_columns(
    n: Numbers,
    *,
    shares: list[float],
    conditions: list[str],
    product: float,
    table: str,
    seen: float,
    together: bool,
    columns: list[str],
) -> str:
    links = " × ".join(
        f"{n.share(share)} by {condition}"
        for share, condition in zip(shares, conditions, strict=True)
    )
    moved = (
        "these columns are correlated" if together else "rows that match one rarely match the other"
    )
    return (
        f"{links} = {n.share(product)} of {table}, but {n.share(seen)} came: {moved} "
        f"({listed(columns)})"
    )


def value_not_listed(n: Numbers, *, listed: int, column: str) -> str:
    return (
        f"the statistics list the {listed} most common values of {column} and take all others for "
        "equally rare; this one is not"
    )
