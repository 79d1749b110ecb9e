"""Tables in many partitions: their scans are judged as the one scan that they are."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.candidates.accesses import accesses
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.symptoms.case import Case
from humble_ledger.core.symptoms.in_plans.registry import find_symptoms
from humble_ledger.core.symptoms.model import Symptom
from humble_ledger.engines.postgresql.costs.scans import PostgresCosts
from tests.core.remedies.test_prediction import SERVER, table
from tests.plans import plan_of, step

EVENT = TableName("public", "event")
PARTS = 20


def parts(count: int = PARTS) -> dict[TableName, TableFacts]:
    plain = table("event", 50_000, 500, "at", "device", "level")
    columns = {**plain.columns, "device": replace(plain.columns["device"], distinct=25_000.0)}
    made = [
        replace(plain, name=TableName("public", f"event_{n}"), columns=columns, root=EVENT,
                partition_of="event")
        for n in range(count)
    ]  # fmt: skip
    buoy = table("buoy", 400, 40, "buoy_id", "device", indexes=("buoy_id",))
    return {each.name: each for each in (*made, buoy)}


def scans(condition: str, rows: float, cost: float = 1_000.0, **measured: Any) -> list[Any]:
    return [
        step("Seq Scan", rows=rows, cost=cost, Relation_Name=f"event_{n}", Schema="public",
             Alias=f"e_{n + 1}", **measured,
             **({"Filter": condition.replace("e.", f"e_{n + 1}.")} if condition else {}))
        for n in range(PARTS)
    ]  # fmt: skip


def appended(children: list[Any], rows: float, **measured: Any) -> Any:
    return step("Append", *children, rows=rows, cost=20_100.0, **measured)


def found(plan: Plan) -> list[Symptom]:
    return find_symptoms(Case.of(plan, SERVER, parts(), PostgresCosts(SERVER)))


def test_a_table_of_many_partitions_that_is_read_whole_for_a_few_rows() -> None:
    plan = plan_of(appended(scans("(e.device = 7)", 2.0), 40.0))
    (symptom,) = found(plan)
    assert (symptom.name, symptom.cause.name) == ("selective-full-scan", "no-index")
    assert symptom.node == 1 and "20 partitions on event" in symptom.step
    told = symptom.summary.arguments
    assert (told["whole"], told["read"], told["kept"]) == (True, 1_000_000, 40)
    assert told["table"] == "event"
    assert (symptom.cost_share or 0.0) > 0.95


def test_what_was_measured_is_added_up() -> None:
    each = scans("(e.device = 7)", 2.0, ms=5.0, seen=3.0, loops=1)
    for one in each:
        one["Rows Removed by Filter"] = 49_997.0
    plan = plan_of(appended(each, 40.0, ms=101.0, seen=60.0, loops=1))
    (symptom,) = found(plan)
    assert symptom.evidence["rows_read"] == pytest.approx(1_000_000)
    assert symptom.evidence["rows_kept"] == pytest.approx(60)
    assert symptom.cost_ms == pytest.approx(101.0, rel=0.01)


@pytest.mark.parametrize("condition", ["", "(e.level > 3)"])
def test_a_report_that_reads_them_all_is_right(condition: str) -> None:
    plan = plan_of(appended(scans(condition, 45_000.0), 900_000.0))
    assert [s.name for s in found(plan)] == ["scan-is-right"]


def test_a_join_with_few_rows_wants_an_index_on_all_of_them() -> None:
    few = step("Index Scan", rows=1.0, cost=8.0, Relation_Name="buoy", Schema="public", Alias="b",
               Index_Name="buoy_0", Index_Cond="(b.buoy_id = 7)")  # fmt: skip
    hashed = step("Hash", few, rows=1.0, cost=8.0, Parent_Relationship="Inner")
    join = step("Hash Join", appended(scans("", 50_000.0), 1_000_000.0), hashed, rows=40.0,
                cost=23_000.0, Hash_Cond="(e.device = b.device)")  # fmt: skip
    plan = plan_of(join)
    names = {s.name for s in found(plan)}
    assert "join-side-without-index" in names
    # And what would serve is looked for by what the join calls the table.
    joined = [a for a in accesses(plan, parts()) if a.table.root == EVENT]
    assert len(joined) == PARTS and all(a.joins for a in joined)
    assert {p.column.column for a in joined for p in a.joins if p.column} == {"device"}


def test_of_two_tables_that_are_put_together_each_is_judged_alone() -> None:
    mixed = scans("(e.device = 7)", 2.0)
    mixed[0]["Relation Name"], mixed[0]["Alias"] = "buoy", "b"
    plan = plan_of(appended(mixed, 40.0))
    assert all("partitions" not in s.step for s in found(plan))
