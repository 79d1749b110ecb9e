"""Values for a statement's parameters, drawn from what the statistics know of its columns.

A plan for no value in particular may be right for none. So three can be asked for: one that
many rows have, one in the middle, and one that few rows have. For a range the value is the
point of the histogram that leaves that share of the rows.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

from humble_ledger.core.estimates.known_values import ColumnValues
from humble_ledger.core.plans.model import Node, Plan
from humble_ledger.core.plans.tables import alias_of
from humble_ledger.core.saying import percent
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.conditions import Predicate, PredicateKind, predicates
from humble_ledger.core.statements.tokens import unquoted

_PARAMETER = re.compile(r"\$(\d+)")
_LIMIT_ROWS = "20"


class Frequency(StrEnum):
    """How many rows a value should have."""

    COMMON = "common"
    TYPICAL = "typical"
    RARE = "rare"


# The share of a table's rows that a range leaves.
_RANGE_SHARE = {Frequency.COMMON: 0.5, Frequency.TYPICAL: 0.1, Frequency.RARE: 0.01}


@dataclass(frozen=True, slots=True)
class ParameterUse:
    """What a parameter is compared with: a column of a table, and how."""

    number: int
    table: TableName
    column: str
    kind: PredicateKind
    operator: str


@dataclass(frozen=True, slots=True)
class ChosenValue:
    """The value chosen for a parameter, and why in a few words."""

    number: int
    value: str
    why: str


def parameter_uses(plan: Plan) -> dict[int, ParameterUse]:
    """The first use of each parameter in a generic plan, by its number."""
    tables = {alias_of(n): n for n in plan.nodes() if n.relation}
    found: dict[int, ParameterUse] = {}
    for node in plan.nodes():
        for text in node.conditions.all():
            for each in predicates(text):
                _note(each, node, tables, found)
    return found


def chosen_value(
    use: ParameterUse, values: ColumnValues, frequency: Frequency, both_bounds: bool
) -> ChosenValue | None:
    """A value for a parameter; None when the statistics have none.

    ``both_bounds``: another parameter bounds the same column from the other side.
    """
    if use.kind is PredicateKind.RANGE:
        return _bound(use, values, frequency, both_bounds)
    picked = _equal(values, frequency)
    if picked is None:
        return None
    value, why = picked
    if use.kind is PredicateKind.MEMBERSHIP:
        value = '{"' + value.replace("\\", "\\\\").replace('"', '\\"') + '"}'
    return ChosenValue(use.number, value, f"{why} of {use.column}")


def limit_value(number: int) -> ChosenValue:
    """For a parameter of LIMIT or OFFSET: a page as people read it."""
    return ChosenValue(number, _LIMIT_ROWS, "compared with no column")


def _note(
    each: Predicate, node: Node, tables: Mapping[str, Node], found: dict[int, ParameterUse]
) -> None:
    numbers = [int(n) for n in _PARAMETER.findall(each.value)]
    if len(numbers) != 1 or numbers[0] in found or each.column is None:
        return
    table = tables.get(unquoted(each.column.alias), node)
    if table.relation:
        name = TableName(table.schema, table.relation)
        found[numbers[0]] = ParameterUse(
            numbers[0], name, unquoted(each.column.column), each.kind, each.operator
        )


def _equal(values: ColumnValues, frequency: Frequency) -> tuple[str, str] | None:
    """A value to be equal to."""
    common, histogram = values.common, values.histogram
    if frequency is Frequency.COMMON and common:
        value, share = common[0]
        return value, f"the most common value ({percent(share)} of the rows)"
    if frequency is Frequency.RARE or not common:
        if histogram:
            place = 1 if frequency is Frequency.RARE else len(histogram) // 2
            return histogram[min(place, len(histogram) - 1)], "a value that few rows have"
        if common:
            value, share = common[-1]
            return value, f"the least common value ({percent(share)} of the rows)"
        return None
    value, share = common[len(common) // 2]
    if histogram and len(common) > 1:
        return histogram[len(histogram) // 2], "a value from the middle"
    return value, f"a value in between ({percent(share)} of the rows)"


def _bound(
    use: ParameterUse, values: ColumnValues, frequency: Frequency, both_bounds: bool
) -> ChosenValue | None:
    points: Sequence[str] = values.histogram or tuple(value for value, _ in values.common)
    if not points:
        return None
    share = _RANGE_SHARE[frequency]
    above = use.operator in (">", ">=")
    if both_bounds and not above:  # the lower bound leaves the share, the upper one takes all
        return ChosenValue(use.number, points[-1], f"the largest {use.column}")
    place = 1.0 - share if above else share
    value = points[round(place * (len(points) - 1))]
    return ChosenValue(use.number, value, f"leaves {percent(share)} of the rows by {use.column}")
