"""Predictions by a planner that can suppose indexes: what is asked, and when it is not believed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import pytest

from humble_ledger.core.costs.model import IndexShape, KeySample
from humble_ledger.core.plans.model import Cost, Node, Operation, Plan
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.prediction.contract import Asked, WhatIfCost
from humble_ledger.core.remedies.prediction.planned import PlannedPredictor
from humble_ledger.core.schema.facts import IndexKey, TableFacts, TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.postgresql.costs.scans import PostgresCosts
from humble_ledger.engines.postgresql.costs.sizes import FILL_ABOVE, index_shape, levels_above
from tests.core.remedies.test_prediction import SERVER

TABLE = TableFacts(TableName("public", "t"), "table", 1000.0, 100, 819_200)


def _design(column: str) -> IndexDesign:
    return IndexDesign(TABLE.name, (IndexKey(column),))


def _plan(cost: float, index: str = "") -> Plan:
    node = Node(
        1, Operation.FULL_SCAN, "Index Scan" if index else "Seq Scan", schema="public",
        relation="t", index=index, cost=Cost(0.0, cost),
    )  # fmt: skip
    return Plan("x", "1", node, measured=False)


@dataclass
class Planner:
    """Costs by the columns of the indexes that are supposed; None cannot be planned."""

    costs: Mapping[frozenset[str], float | None]
    asked: list[frozenset[str]] = field(default_factory=list)
    failed: list[str] = field(default_factory=list)
    lacks: tuple[str, ...] = ("an order of texts",)
    tolerance: float = 0.02
    most_at_once: int = 1_000

    def plan(self, statement: Statement, designs: Mapping[IndexDesign, IndexShape]) -> Plan | None:
        names = frozenset(d.key_columns[0] for d in designs)
        self.asked.append(names)
        cost = self.costs.get(names, 100.0)
        return None if cost is None else _plan(cost, min(names, default=""))

    def names(self, designs: Mapping[IndexDesign, IndexShape]) -> Mapping[str, IndexDesign]:
        return {d.key_columns[0]: d for d in designs}

    def guesses(self, design: IndexDesign) -> bool:
        return False

    def forget(self, designs: Mapping[IndexDesign, IndexShape]) -> None:
        pass


class Formula:
    """Says 42 to everything."""

    way = "formula"
    cautions: tuple[str, ...] = ()

    def outlook(self, asked: Asked, designs: object) -> WhatIfCost:
        return WhatIfCost(asked.plan.cost_total or 0.0, 42.0, (), self.way)

    def shape(self, design: IndexDesign, table: TableFacts) -> IndexShape:
        return IndexShape(10, 1, 1000.0)


def _predict(costs: Mapping[frozenset[str], float | None], now: float, *columns: str) -> WhatIfCost:
    planner = Planner(costs)
    predictor = PlannedPredictor(
        planner, Formula(), PostgresCosts(SERVER), tables={TABLE.name: TABLE}
    )
    asked = Asked(Statement("SELECT 1"), _plan(now), ())
    found = predictor.outlook(asked, [_design(c) for c in columns])
    assert predictor.outlook(asked, [_design(c) for c in columns]) == found
    assert len(planner.asked) == len(set(planner.asked)), "each is asked once"
    return found


NONE: frozenset[str] = frozenset()


@pytest.mark.parametrize(
    ("costs", "now", "expected", "way"),
    [
        ({NONE: 100.0, frozenset("a"): 20.0}, 100.0, 20.0, "planner"),
        ({NONE: 100.0, frozenset("a"): 101.0}, 100.0, 100.0, "planner"),  # hardly dearer
        ({NONE: 100.0, frozenset("a"): 130.0}, 100.0, 130.0, "planner"),  # it misleads the planner
        ({NONE: 101.0, frozenset("a"): 20.0}, 100.0, 20.0, "planner"),  # nearly the same
        ({NONE: 150.0, frozenset("a"): 20.0}, 100.0, 42.0, "formula"),  # the copy plans otherwise
        ({NONE: None, frozenset("a"): 20.0}, 100.0, 42.0, "formula"),  # it cannot plan that
        ({NONE: 100.0, frozenset("a"): None}, 100.0, 42.0, "formula"),  # it cannot have the index
    ],
)
def test_the_planner_is_believed_where_it_plans_as_the_target_does(
    costs: Mapping[frozenset[str], float | None], now: float, expected: float, way: str
) -> None:
    found = _predict(costs, now, "a")
    assert (found.cost, found.way) == (expected, way)
    assert found.cost_before == now
    assert [u.design for u in found.used] == ([_design("a")] if found.cost in (20.0, 130.0) else [])


def test_a_plan_of_an_earlier_day_is_held_against_what_the_target_would_do_now() -> None:
    """The copy costs 150 as the target does by now; 100 was in the ledger."""
    planner = Planner({NONE: 150.0, frozenset("a"): 20.0})
    predictor = PlannedPredictor(
        planner, Formula(), PostgresCosts(SERVER), lambda _: 150.0, tables={TABLE.name: TABLE}
    )
    found = predictor.outlook(Asked(Statement("SELECT 1"), _plan(100.0), ()), [_design("a")])
    assert (found.cost_before, found.cost, found.way) == (150.0, 20.0, "planner")
    assert predictor.cautions == ["about the copy: an order of texts"]
    planner.failed += ["no such type", "no such type"]
    assert "2 plans could not be made on it" in predictor.cautions[-1]


def test_keys_that_come_often_say_nothing_of_the_others() -> None:
    """A quarter of the rows has one key, all others their own: both are seen."""
    sample = KeySample(10_000, 10_000, 7_501, 7_500, 16.0, ((2_500, 1),))
    entries = 100_000.0
    distinct = sample.distinct(entries)
    assert distinct == pytest.approx(75_001, rel=0.01)
    groups = sample.groups(entries, distinct)
    assert sum(size * many for size, many in groups) == pytest.approx(entries)
    assert groups[0] == (25_000.0, 1.0)
    table = TableFacts(TABLE.name, "table", entries, 1000, 8_192_000)
    alike = index_shape(table, [], sample=KeySample(10_000, 10_000, 7_501, 7_500, 16.0))
    assert index_shape(table, [], sample=sample).pages != alike.pages


@pytest.mark.parametrize(
    ("leaves", "width", "levels"),
    [(1, 8, 0), (2, 8, 1), (284, 8, 1), (285, 8, 2), (80_000, 8, 2), (82_000, 8, 3), (200, 100, 2)],
)
def test_levels_follow_how_many_keys_a_page_above_the_leaves_holds(
    leaves: int, width: float, levels: int
) -> None:
    # 8,192 bytes less headers, filled to 70 %: 5,694 bytes for keys of 20 bytes with their pointer.
    assert levels_above(leaves, width, 1, filled=FILL_ABOVE) == levels
