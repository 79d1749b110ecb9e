"""One plan of a prepared statement for all values, met by a value that is unlike the others."""

from __future__ import annotations

from typing import Any

import pytest

from humble_ledger.core.symptoms.case import Case
from humble_ledger.core.symptoms.in_plans.registry import find_symptoms
from humble_ledger.core.symptoms.model import Symptom
from humble_ledger.engines.postgresql.costs.scans import PostgresCosts
from tests.core.remedies.test_prediction import SERVER, TABLES
from tests.plans import plan_of, step


def found(root: dict[str, Any], name: str) -> Symptom | None:
    plan = plan_of(root, **{"Execution Time": 100.0})
    case = Case.of(plan, SERVER, TABLES, PostgresCosts(SERVER))
    return next((s for s in find_symptoms(case) if s.name == name), None)


def scan(value: str, *below: dict[str, Any], rows: int = 500_000, seen: int = 20) -> dict[str, Any]:
    return step(
        "Seq Scan", *below, rows=rows, seen=seen, ms=99.0, cost=31_000.0,
        Relation_Name="reading", Schema="public", Alias="reading",
        Filter=f"(reading.buoy_id = {value})", Rows_Removed_by_Filter=1_500_000 - seen,
    )  # fmt: skip


def test_a_scan_that_was_chosen_for_any_value() -> None:
    symptom = found(scan("$1"), "selective-full-scan")
    assert symptom is not None and symptom.cause is not None
    assert symptom.cause.name == "generic-plan"
    told = symptom.cause.detail.arguments
    assert (told["expected"], told["seen"]) == (500_000, 20)


@pytest.mark.parametrize(
    ("value", "rows"), [("77", 500_000), ("$1", 40)], ids=["a value", "as many as expected"]
)
def test_other_scans_have_other_causes(value: str, rows: int) -> None:
    symptom = found(scan(value, rows=rows), "selective-full-scan")
    assert symptom is None or symptom.cause is None or symptom.cause.name != "generic-plan"


def test_an_estimate_for_any_value() -> None:
    symptom = found(scan("$1"), "row-misestimate")
    assert symptom is not None and symptom.cause is not None
    assert symptom.cause.name == "generic-plan"


def test_what_a_sub_query_gives_is_no_parameter_although_older_servers_write_it_so() -> None:
    below = step(
        "Result", rows=1, seen=1, ms=0.1, Parent_Relationship="InitPlan",
        Subplan_Name="InitPlan 1 (returns $0)",
    )  # fmt: skip
    symptom = found(scan("$0", below), "row-misestimate")
    assert symptom is not None and symptom.cause is not None
    assert symptom.cause.name == "value-not-known-beforehand"
