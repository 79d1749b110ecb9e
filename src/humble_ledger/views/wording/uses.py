"""What an index would be for."""

from __future__ import annotations

from humble_ledger.views.numbers import Numbers
from humble_ledger.views.wording.parts import listed

_OTHERWISE = "(for when the statement cannot be written otherwise)"


def index_serves(
    n: Numbers, *, equal: list[str], use: str | None, first: bool, where: list[str], read: list[str]
) -> str:
    uses = [f"equality on {listed(equal)}"] if equal else []
    if use:
        uses.insert(0 if first else len(uses), use)
    told = ", ".join(uses)
    if where:
        told += f" of the rows where {listed(where)}"
    return f"{told}, {listed(read)} read from it" if read else told


def index_for_range(n: Numbers, *, column: str) -> str:
    return f"range on {column}"


def index_for_order(n: Numbers, *, columns: list[str]) -> str:
    return f"order by {', '.join(columns)}"


def index_for_join(n: Numbers, *, column: str) -> str:
    return f"join on {column}"


def index_for_end(n: Numbers, *, column: str) -> str:
    return f"the least or greatest {column} stands at its end"


def index_for_search(n: Numbers, *, columns: list[str], all_read: bool) -> str:
    return f"{listed(columns)} searched for{', all read from it' if all_read else ''}"


def index_for_groups(n: Numbers, *, columns: list[str], all_read: bool) -> str:
    return f"grouped by {listed(columns)}{', all read from it' if all_read else ''}"


def index_for_any_rows(n: Numbers) -> str:
    return "all"


def index_for_expression(n: Numbers, *, condition: str) -> str:
    return f'"{condition}" compares an expression, not the column {_OTHERWISE}'


def index_for_expressions(n: Numbers, *, conditions: list[str]) -> str:
    quoted = [f'"{condition}"' for condition in conditions]
    return f"{listed(quoted)} compare expressions {_OTHERWISE}"


def index_for_joined_expression(n: Numbers, *, condition: str) -> str:
    return f'"{condition}" joins by an expression, not by the column'


def index_for_first_by(n: Numbers, *, expression: str) -> str:
    return f"order by {expression}, of which the first are wanted"


def index_for_beginning(n: Numbers, *, condition: str) -> str:
    return f'"{condition}" asks for a beginning'


def index_by_collation(n: Numbers, *, condition: str, collation: str) -> str:
    return f'"{condition}" compares by {collation}'


def index_for_part(n: Numbers, *, condition: str) -> str:
    return f'"{condition}" asks for a part of the text'


def index_for_inside(n: Numbers, *, condition: str) -> str:
    return f'"{condition}" looks into the value'


def index_for_shapes(n: Numbers, *, by: str, of: str, expression: bool) -> str:
    told = f"searched by {by}: a tree of what encloses {of}"
    return f"{told} of an expression {_OTHERWISE}" if expression else told


def index_for_nearest(n: Numbers, *, of: str, expression: bool) -> str:
    told = f"the nearest by {of} come first"
    return f"{told} of an expression {_OTHERWISE}" if expression else told


def index_of_blocks(n: Numbers, *, column: str) -> str:
    return f"rows lie in the order of {column}: a few pages tell where to look"


def index_taken(n: Numbers, *, columns: list[str]) -> str:
    return f"the planner takes it for {listed(columns)}"


def index_for_side(n: Numbers, *, beside: list[str]) -> str:
    others = [f"({columns})" for columns in beside]
    return f"one side of OR{f', beside {listed(others)}' if others else ''}"


def index_for_both(n: Numbers, *, one: str, other: str) -> str:
    return f"{one}; {other}"
