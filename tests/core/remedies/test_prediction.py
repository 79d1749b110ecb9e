"""Candidates, their choice, and recosting, without a server."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import pytest

from humble_ledger.core.costs.model import KeySample, Search
from humble_ledger.core.plans.model import Node, Plan
from humble_ledger.core.remedies.candidates.accesses import accesses
from humble_ledger.core.remedies.candidates.model import Access, IndexAbilities
from humble_ledger.core.remedies.candidates.registry import candidates
from humble_ledger.core.remedies.choice.worth import Priced, worth_trying
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.index_text import parse_index
from humble_ledger.core.remedies.model import Prediction
from humble_ledger.core.remedies.prediction.contract import Asked
from humble_ledger.core.remedies.prediction.formula import FormulaPredictor
from humble_ledger.core.remedies.prediction.recosting import Replacement, recost
from humble_ledger.core.schema.facts import (
    ColumnFacts,
    HeapFacts,
    IndexFacts,
    IndexKey,
    ServerFacts,
    TableFacts,
    TableName,
)
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.postgresql.costs.scans import PostgresCosts, pages_fetched
from humble_ledger.engines.postgresql.costs.sizes import index_shape
from tests.plans import RECORDED, plan_of, recorded, step

SERVER = ServerFacts("postgresql", "18", 180000, "skerry", "me")


def table(
    name: str, rows: float, pages: int, *columns: str, indexes: Sequence[str] = ()
) -> TableFacts:
    return TableFacts(
        name=TableName("public", name),
        kind="table",
        rows=rows,
        pages=pages,
        size_bytes=pages * 8192,
        columns={
            column: ColumnFacts(column, "integer", n, True, 4, 4, 4, 0.0, rows / 600, 0.0)
            for n, column in enumerate(columns, 1)
        },
        indexes=tuple(
            IndexFacts(f"{name}_{n}", "btree", tuple(IndexKey(c) for c in keys.split(",")))
            for n, keys in enumerate(indexes)
        ),
    )


READING = table(
    "reading", 1.5e6, 12500, "reading_id", "sensor_id", "buoy_id", "taken_at", "value", "quality",
    indexes=("reading_id", "buoy_id,taken_at"),
)  # fmt: skip
ALERT = table(
    "alert", 6e4, 1046, "alert_id", "buoy_id", "sensor_id", "raised_at", "kind", "cause", "crew",
    "code", "status", "message", indexes=("alert_id", "raised_at", "sensor_id,code"),
)  # fmt: skip
VISIT = table("visit", 2e4, 181, "visit_id", "buoy_id", "keeper_id", "started_at")
TABLES = {t.name: t for t in (READING, ALERT, VISIT)}


class Oracle:
    """A planner that says the same of everything."""

    def rows_matching(self, table: TableName, alias: str, conditions: Sequence[str]) -> float:
        return 600.0

    def rows_per_value(self, table: TableName, columns: Sequence[str]) -> float:
        return 600.0

    def sample_keys(
        self, table: TableName, keys: Sequence[IndexKey], included: Sequence[str], predicate: str
    ) -> KeySample | None:
        return None

    def sample_terms(
        self, table: TableName, key: IndexKey, type_name: str
    ) -> tuple[KeySample, float] | None:
        return None


@pytest.mark.parametrize("major", [15, 18])
@pytest.mark.parametrize(
    ("plan", "wanted"),
    [
        ("01-readings-of-a-sensor", "reading (sensor_id, taken_at)"),
        ("20-highest-values", "reading (sensor_id, value DESC)"),
        ("10-open-alerts-per-buoy", "alert (buoy_id)"),
        ("04-alerts-by-code", "alert (code)"),
        ("19-visits-of-a-keeper", "visit (keeper_id)"),
    ],
)
def test_an_experts_index_is_among_the_candidates(major: int, plan: str, wanted: str) -> None:
    found = [c.design.words for c in candidates(recorded(major, plan), TABLES)]
    assert wanted in found
    assert len(found) == len(set(found))


@pytest.mark.parametrize("name", ["16-one-reading", "17-a-day-of-a-buoy", "12-monthly-means"])
def test_what_an_index_serves_already_is_not_proposed(name: str) -> None:
    designs = [c.design for c in candidates(recorded(18, name), TABLES)]
    assert not [d.words for d in designs if d.key_columns[:1] == ("reading_id",)]
    assert "reading (buoy_id, taken_at)" not in [d.words for d in designs]


def test_a_selective_index_is_predicted_far_cheaper_and_a_prediction_never_dearer() -> None:
    plan = recorded(18, "01-readings-of-a-sensor")
    predictor = FormulaPredictor(PostgresCosts(SERVER), Oracle())
    reads = list(accesses(plan, TABLES))
    for candidate in candidates(plan, TABLES):
        found = predictor.outlook(_asked(plan, reads), [candidate.design])
        assert found.cost <= found.cost_before == plan.cost_total
        if candidate.design.key_columns[0] == "sensor_id":
            told = found.prediction("q1")
            assert told.gain > 5 and told.route


def _asked(plan: Plan, reads: Sequence[Access]) -> Asked:
    return Asked(Statement(""), plan, reads)


def _seq(**more: object) -> dict[str, object]:
    return step("Seq Scan", cost=1000.0, rows=100, Relation_Name="t", Schema="public", **more)


def _recosted(root: dict[str, object], total: float, sorts: bool = False) -> float:
    plan = plan_of(root)
    scan = next(n for n in plan.nodes() if n.relation == "t")

    def gives(_: Node) -> bool:
        return sorts

    return recost(plan, scan, Replacement(1.0, total, gives))


def test_recosting_keeps_what_other_steps_cost() -> None:
    assert _recosted(step("Aggregate", _seq(), cost=1010.0), 50.0) == pytest.approx(60)


def test_recosting_drops_the_sort_that_the_new_route_makes_needless() -> None:
    root = step("Sort", _seq(), cost=1100.0, startup=1090.0)
    assert _recosted(root, 50.0) == pytest.approx(150)
    root = step("Sort", _seq(), cost=1100.0, startup=1090.0)
    assert _recosted(root, 50.0, sorts=True) == pytest.approx(50)


def test_recosting_drops_the_gather_and_lets_a_limit_take_its_part() -> None:
    scan = _seq(Parallel_Aware=True)
    assert _recosted(step("Gather", scan, cost=2000.0, Workers_Planned=2), 50.0) == 50
    limit = step("Limit", _seq(), cost=100.0, rows=10)
    assert _recosted(limit, 51.0) == pytest.approx(1 + 0.1 * 50)


def test_recosting_reads_an_inner_side_once_per_outer_row() -> None:
    outer = step("Seq Scan", cost=10.0, rows=7)
    root = step("Nested Loop", outer, _seq(), cost=10 + 7 * 1000 + 5)
    assert _recosted(root, 20.0) == pytest.approx(10 + 7 * 20 + 5)


@pytest.mark.parametrize(
    ("rows", "pages", "low", "high"),
    [(1, 1000, 1, 1), (1000, 1000, 600, 700), (1e6, 1000, 1000, 1000)],
)
def test_pages_fetched_grow_with_rows_up_to_all(
    rows: float, pages: float, low: float, high: float
) -> None:
    assert low <= pages_fetched(rows, pages, pages, 1e6) <= high


def test_an_index_scan_costs_more_the_more_it_fetches() -> None:
    shape = index_shape(READING, [READING.columns["sensor_id"]])
    costs = [
        PostgresCosts(SERVER).index_scan(READING, shape, Search(s, s, 1), 0.0).total
        for s in (1e-5, 1e-3, 1e-1, 1.0)
    ]
    assert costs == sorted(costs)
    in_order = PostgresCosts(SERVER).index_scan(READING, shape, Search(0.1, 0.1, 1), 1.0)
    assert in_order.total < costs[2]


def test_wider_keys_make_larger_indexes() -> None:
    one = index_shape(READING, [READING.columns["sensor_id"]])
    two = index_shape(READING, [READING.columns["sensor_id"], READING.columns["taken_at"]])
    assert one.pages < two.pages < READING.pages
    empty = index_shape(table("t", 0, 0, "a"), [READING.columns["sensor_id"]])
    assert empty.levels == 0 and empty.pages == 2


def _priced(design: IndexDesign, size: int, **costs: float) -> Priced:
    predictions = tuple(Prediction(q, 1000.0, cost, "formula") for q, cost in costs.items())
    return Priced(design, predictions, size)


def test_the_choice_prefers_the_smaller_of_two_alike_and_drops_the_useless() -> None:
    narrow = parse_index("reading (sensor_id)", "public")
    wide = parse_index("reading (sensor_id, taken_at)", "public")
    alike = worth_trying([_priced(wide, 400, q1=100), _priced(narrow, 100, q1=101)], {})
    assert [p.design for p in alike] == [narrow]
    better = worth_trying([_priced(wide, 400, q1=50), _priced(narrow, 100, q1=101)], {})
    assert [p.design for p in better] == [wide, narrow]
    assert worth_trying([_priced(narrow, 100, q1=900)], {}) == []


def test_a_query_that_runs_often_weighs_more() -> None:
    once = _priced(parse_index("reading (sensor_id)", "public"), 100, q1=10)
    often = _priced(parse_index("reading (quality)", "public"), 1000, q2=500)
    assert [p.size_bytes for p in worth_trying([once, often], {"q2": 100})] == [1000, 100]


@pytest.mark.parametrize("path", RECORDED, ids=lambda p: f"{p.parent.name}-{p.stem}")
def test_more_indexes_never_make_a_plan_dearer(path: Path) -> None:
    """For every recorded plan: what one index brings, all of them together bring at least."""
    plan = recorded(int(path.parent.name), path.stem)
    if plan.cost_total is None:
        return
    means = IndexAbilities(lambda _: True, lambda *_: True, frozenset({"gin:gin_trgm_ops"}))
    reads = list(accesses(plan, TABLES))
    designs = [c.design for c in candidates(plan, TABLES, means)]
    predictor = FormulaPredictor(PostgresCosts(replace(SERVER, version_number=180000)), Oracle())
    alone = [predictor.outlook(_asked(plan, reads), [design]) for design in designs]
    together = predictor.outlook(_asked(plan, reads), designs)
    assert 0 <= together.cost <= together.cost_before
    for design, one in zip(designs, alone, strict=True):
        assert 0 <= one.cost <= one.cost_before
        assert all(used.design == design and used.route for used in one.used)
    if alone:
        # The best goes first, and whatever comes after it only helps.
        assert together.cost <= min(one.cost for one in alone) * 1.0001
    assert len({(used.design, used.step) for used in together.used}) == len(together.used)


ALERTS = {"Relation Name": "alert", "Schema": "public", "Alias": "a"}


def _cost(plan: Plan, index: str, tables: dict[TableName, TableFacts] = TABLES) -> float:
    predictor = FormulaPredictor(PostgresCosts(SERVER), Oracle())
    found = predictor.outlook(
        _asked(plan, list(accesses(plan, tables))), [parse_index(index, "public")]
    )
    return found.cost


def test_columns_of_partial_aggregates_are_needed_too() -> None:
    """Workers put out "PARTIAL max(…)": an index without that column is not all that is read."""
    scan = step(
        "Seq Scan", **ALERTS, Filter="(a.code = 7)", Output=["a.code", "a.crew", "a.message"],
        **{"Total Cost": 2000.0, "Plan Rows": 600},
    )  # fmt: skip
    partial = step(
        "Aggregate", scan, Output=["PARTIAL sum(a.crew)"], **{"Total Cost": 2001.0, "Plan Rows": 1}
    )
    plan = plan_of(partial)
    visible = {ALERT.name: replace(ALERT, storage=HeapFacts(all_visible_share=1.0))}
    whole, part = (_cost(plan, f"alert ({c})", visible) for c in ("code, crew", "code"))
    assert whole < part / 5


def test_sub_queries_of_a_condition_are_called_for_the_rows_that_are_left() -> None:
    called = step(
        "Result", **{"Parent Relationship": "SubPlan", "Subplan Name": "SubPlan 1",
                     "Total Cost": 50.0, "Plan Rows": 1},
    )  # fmt: skip
    scan = step(
        "Seq Scan", called, **ALERTS, Filter="((a.code = 7) AND (a.crew > (SubPlan 1)))",
        Output=["a.message"], **{"Total Cost": 3_000_000.0, "Plan Rows": 200},
    )  # fmt: skip
    plan = plan_of(scan)
    assert 600 * 50 < _cost(plan, "alert (code)") < 3 * 600 * 50
    hashed = replace(
        scan_ := plan.root,
        conditions=replace(
            scan_.conditions, filter=("((a.code = 7) AND (a.crew = (hashed SubPlan 1)))",)
        ),
    )
    assert _cost(replace(plan, root=hashed), "alert (code)") < 5_000


def test_a_join_is_made_by_what_its_other_side_knows() -> None:
    """The visits' keeper is joined further up: here no index on it leads anywhere."""
    visit = step(
        "Seq Scan", **{"Relation Name": "visit", "Schema": "public", "Alias": "v"},
        Output=["v.buoy_id", "v.keeper_id"], **{"Total Cost": 400.0, "Plan Rows": 20000},
    )  # fmt: skip
    few = step(
        "Seq Scan", **ALERTS, Filter="(a.code = 7)", Output=["a.buoy_id"],
        **{"Total Cost": 60.0, "Plan Rows": 2},
    )  # fmt: skip
    keepers = step(
        "Seq Scan", **{"Relation Name": "keeper", "Schema": "public", "Alias": "k"},
        Output=["k.keeper_id"], **{"Total Cost": 3.0, "Plan Rows": 90},
    )  # fmt: skip
    joined = step(
        "Hash Join", visit, few, **{"Hash Cond": "(v.buoy_id = a.buoy_id)", "Total Cost": 520.0,
                                    "Plan Rows": 60},
    )  # fmt: skip
    plan = plan_of(
        step("Hash Join", joined, keepers, **{"Hash Cond": "(v.keeper_id = k.keeper_id)",
                                              "Total Cost": 540.0, "Plan Rows": 60})
    )  # fmt: skip
    assert _cost(plan, "visit (keeper_id)") == 540.0
    assert _cost(plan, "visit (buoy_id)") <= 540.0


def test_an_inverted_index_is_not_asked_for_what_it_does_not_find() -> None:
    column = replace(ALERT.columns["message"], type_name="jsonb")
    table_ = replace(ALERT, columns={**ALERT.columns, "message": column})
    tables = {table_.name: table_}

    def cost(condition: str) -> float:
        scan = step(
            "Seq Scan", **ALERTS, Filter=f"({condition})", Output=["a.crew"],
            **{"Total Cost": 9000.0, "Plan Rows": 600},
        )  # fmt: skip
        predictor = FormulaPredictor(PostgresCosts(SERVER), Oracle())
        plan = plan_of(scan)
        design = parse_index("alert USING gin (message)", "public")
        keys = tuple(replace(k, operator_class="jsonb_path_ops") for k in design.keys)
        asked = _asked(plan, list(accesses(plan, tables)))
        return predictor.outlook(asked, [replace(design, keys=keys)]).cost

    assert cost("a.message @> '{\"kind\": 3}'::jsonb") < 9000.0
    assert cost("(a.message ->> 'kind'::text) = '3'::text") == 9000.0
