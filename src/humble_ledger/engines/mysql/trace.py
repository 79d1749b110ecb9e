"""Costs from the optimizer's trace: what its plan's JSON does not tell on MariaDB.

One SELECT after the other, the trace has the join orders that were considered; the one taken is
the cheapest of those that are complete. Its text may have escapes that no JSON allows.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from humble_ledger.engines.mysql.plans.json_text import decoded

# Others that begin so ("pruned_by_hanging_leaf") mark an order that is gone on with.
MATERIALIZED = "materialized"  # the key of sub-queries that a join reads from a table of their own
_GIVEN_UP = frozenset(("pruned_by_cost", "pruned_by_heuristic"))


def prices_in(text: str) -> dict[str, list[list[Any]]]:
    """The tables of each SELECT's order as (alias, cost, rows, cost up to it); {} where unknown.

    A sub-query that a join reads from a table of its own is no SELECT of its own any more: the
    tables of all such stand under `MATERIALIZED`.
    """
    try:
        document = decoded(text)
    except ValueError:
        return {}
    found: dict[str, list[list[Any]]] = {}
    for step in _all(document, "join_optimization"):
        number = str(step.get("select_id", ""))
        orders = [
            order
            for each in _all(step, "considered_execution_plans", within="join_optimization")
            for order in _complete(each, [])
        ]
        taken = next(iter(_all(step, "best_join_order", within="join_optimization")), None)
        found.setdefault(number, _taken(orders, taken))
        for plan in _all(step, "execution_plan_for_potential_materialization", "join_optimization"):
            own = [
                o for each in _all(plan, "considered_execution_plans") for o in _complete(each, [])
            ]
            found.setdefault(MATERIALIZED, []).extend(_taken(own, None))
    return found


def _taken(orders: Sequence[list[list[Any]]], names: Any) -> list[list[Any]]:
    """The order that was taken: by its tables, or the cheapest of those with all of them."""
    if isinstance(names, Sequence) and not isinstance(names, str):
        wanted = [str(name) for name in names]
        orders = [order for order in orders if [each[0] for each in order] == wanted] or orders
    most = max((len(order) for order in orders), default=0)
    whole = [order for order in orders if len(order) == most]
    return min(whole, key=lambda order: float(order[-1][3]), default=[])


def _complete(plans: Any, before: list[list[Any]]) -> Iterator[list[list[Any]]]:
    """Every complete order in a list of orders that go on in ``rest_of_plan``."""
    if not isinstance(plans, Sequence) or isinstance(plans, str):
        return
    for plan in plans:
        if not isinstance(plan, Mapping) or not _GIVEN_UP.isdisjoint(plan):
            continue
        name, cost = plan.get("table"), plan.get("cost_for_plan")
        if cost is None or not isinstance(name, str):
            continue
        # What reading it adds, for all the rows before it: with looking at each row that comes.
        own = float(cost) - (before[-1][3] if before else 0.0)
        so_far = [*before, [name, own, float(plan.get("rows_for_plan", 0) or 0), float(cost)]]
        rest = plan.get("rest_of_plan")
        if rest:
            yield from _complete(rest, so_far)
        else:
            yield so_far


def _all(part: Any, name: str, within: str = "") -> Iterator[Any]:
    """Everything of a name, wherever it is; not inside another step called ``within``."""
    if isinstance(part, Mapping):
        for key, value in part.items():
            if key == name:
                yield value
                if name == "join_optimization":
                    yield from _all(value, name)
            elif key != within:
                yield from _all(value, name, within)
    elif isinstance(part, Sequence) and not isinstance(part, str):
        for each in part:
            yield from _all(each, name, within)
