"""Finding routes, with a planner made up for the purpose."""

from __future__ import annotations

from humble_ledger.core.plans.model import Cost, Node, Operation, Plan, Role
from humble_ledger.core.routes.exploring import Avoided, Method, explore, methods_of, said


def plan(operation: Operation, cost: float, index: str = "", label: str = "") -> Plan:
    node = Node(1, operation, label or operation.value, relation="t", index=index)
    return Plan("made up", "1", Node(**{**_fields(node), "cost": Cost(0, cost)}), measured=False)


def _fields(node: Node) -> dict[str, object]:
    return {name: getattr(node, name) for name in Node.__slots__}


WAYS = (
    plan(Operation.INDEX_SCAN, 10.0, "t_a"),
    plan(Operation.BITMAP_SCAN, 30.0, "t_a"),
    plan(Operation.FULL_SCAN, 20.0),
)


def planner(avoided: Avoided) -> Plan:
    """Takes the cheapest way that is not forbidden, else the cheapest of all."""
    free = [way for way in WAYS if not avoided & set(methods_of(way))]
    return min(free or WAYS, key=lambda way: way.cost_total or 0.0)


def test_every_way_is_found_once_and_stands_by_its_cost() -> None:
    found = explore(planner(frozenset()), planner)
    assert [each.cost for each in found] == [10.0, 20.0, 30.0]
    assert found[0].avoided == frozenset()
    assert found[2].avoided == {Method.INDEX_SCAN, Method.FULL_SCAN}


def test_a_forbidden_method_that_is_used_all_the_same_is_no_way() -> None:
    only = WAYS[2]
    assert [each.plan for each in explore(only, lambda avoided: only)] == [only]


def test_questions_are_bounded() -> None:
    asked: list[Avoided] = []

    def ask(avoided: Avoided) -> Plan:
        asked.append(avoided)
        return plan(Operation.NESTED_LOOP, 5.0, label=f"Nested Loop {len(asked)}")

    explore(planner(frozenset()), ask, most_asked=7)
    assert len(asked) <= 7


def test_a_way_in_a_few_words_tells_tables_joins_and_helpers_in_the_order_of_the_work() -> None:
    scan = Node(3, Operation.FULL_SCAN, "Seq Scan", relation="buoy", alias="b")
    looked = Node(
        4, Operation.INDEX_SCAN, "Index Scan", Role.INNER, relation="alert", index="alert_buoy"
    )
    join = Node(2, Operation.NESTED_LOOP, "Nested Loop", join_type="Left", children=(scan, looked))
    root = Node(1, Operation.SORT, "Sort", sort_keys=("a",), children=(join,))
    words = said(Plan("made up", "1", root, measured=False))
    assert words == "full scan of buoy b, alert by alert_buoy, nested loop (left), sort"
