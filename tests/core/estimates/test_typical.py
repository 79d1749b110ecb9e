"""Values for parameters, drawn from statistics."""

from __future__ import annotations

import pytest

from humble_ledger.core.estimates.typical import (
    ColumnValues,
    Frequency,
    ParameterUse,
    chosen_value,
    parameter_uses,
)
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.conditions import PredicateKind
from tests.plans import plan_of, step

TABLE = TableName("public", "reading")
SKEWED = ColumnValues(
    (("harbour", 0.4), ("bay", 0.2), ("cape", 0.01)), tuple(f"buoy {n:03d}" for n in range(101))
)
FEW = ColumnValues((("open", 0.9), ("closed", 0.08), ("lost", 0.02)))
EVEN = ColumnValues((), tuple(str(n) for n in range(0, 1001, 10)))


def use(kind: PredicateKind, operator: str) -> ParameterUse:
    return ParameterUse(1, TABLE, "name", kind, operator)


@pytest.mark.parametrize(
    ("values", "operator", "chosen"),
    [
        (SKEWED, "=", ("harbour", "buoy 050", "buoy 001")),
        (FEW, "=", ("open", "closed", "lost")),
        (EVEN, "=", ("500", "500", "10")),
        (EVEN, ">=", ("500", "900", "990")),
        (EVEN, "<", ("500", "100", "10")),
    ],
)
def test_common_typical_and_rare(
    values: ColumnValues, operator: str, chosen: tuple[str, str, str]
) -> None:
    kind = PredicateKind.EQUALITY if operator == "=" else PredicateKind.RANGE
    found = [chosen_value(use(kind, operator), values, each, False) for each in Frequency]
    assert [each.value if each else None for each in found] == list(chosen)
    assert found and all(each is not None and each.why for each in found)


def test_two_bounds_leave_the_share_together() -> None:
    upper = chosen_value(use(PredicateKind.RANGE, "<"), EVEN, Frequency.RARE, both_bounds=True)
    lower = chosen_value(use(PredicateKind.RANGE, ">="), EVEN, Frequency.RARE, both_bounds=True)
    assert upper is not None and lower is not None
    assert (lower.value, upper.value) == ("990", "1000")


def test_a_list_becomes_an_array_and_nothing_known_is_said() -> None:
    odd = ColumnValues((('he said "no"', 0.5),))
    found = chosen_value(use(PredicateKind.MEMBERSHIP, "="), odd, Frequency.COMMON, False)
    assert found is not None and found.value == '{"he said \\"no\\""}'
    nothing = ColumnValues()
    for kind in (PredicateKind.EQUALITY, PredicateKind.RANGE):
        assert chosen_value(use(kind, "="), nothing, Frequency.RARE, False) is None


def test_what_a_parameter_is_compared_with_stands_in_the_generic_plan() -> None:
    scan = step(
        "Seq Scan", Relation_Name="reading", Alias="r", Schema="public",
        Filter="((r.sensor_id = $2) AND (r.taken_at >= $1) AND (lower(r.kind) = $3))",
    )  # fmt: skip
    found = parameter_uses(plan_of(step("Limit", scan)))
    assert {n: (each.column, each.kind) for n, each in found.items()} == {
        1: ("taken_at", PredicateKind.RANGE),
        2: ("sensor_id", PredicateKind.EQUALITY),
        3: ("kind", PredicateKind.EQUALITY),
    }
    assert found[1].table == TABLE
