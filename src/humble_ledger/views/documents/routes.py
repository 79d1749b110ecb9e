"""The ways to run a statement."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.results.plans import Routes
from humble_ledger.core.routes.exploring import said


class RouteRow(Struct, frozen=True):
    """One way to run a statement; the first is the server's own choice.

    ``stopped_after_ms``: it was to be measured and took longer. ``remarks`` are the server's.
    """

    plan: str
    how: str
    without: list[str]
    cost_estimated: float | None
    execution_ms: float | None
    stopped_after_ms: float | None
    pages: int | None
    rows_expected: float | None
    remarks: list[str]


class DecisionRow(Struct, frozen=True):
    """What decides between the first way and ``route``, and where that would begin to win.

    ``expected`` and ``break_even_computed`` are a share of rows or a number of lookups.
    """

    by: str
    route: int
    chosen_cost_estimated: float
    other_cost_estimated: float
    table: str
    index: str
    expected: float | None
    break_even_computed: float | None
    other_wins_below: bool


class RoutesDocument(Struct, frozen=True):
    """The ways a server could run a statement."""

    query: str
    statement: str
    found: int
    asked: int
    routes: list[RouteRow]
    decision: DecisionRow | None
    kind: Literal["routes"] = "routes"
    version: Literal[1] = 1


def routes_document(found: Routes) -> RoutesDocument:
    """The ways to run a statement."""
    decision = found.decision
    return RoutesDocument(
        query=found.query,
        statement=found.statement,
        found=found.found,
        asked=found.asked,
        routes=[
            RouteRow(
                plan=each.plan.id,
                how=said(each.plan.plan),
                without=sorted(each.avoided),
                cost_estimated=each.plan.plan.cost_total,
                execution_ms=each.plan.plan.execution_ms,
                stopped_after_ms=each.stopped_ms,
                pages=None
                if each.plan.plan.root.pages is None
                else each.plan.plan.root.pages.touched,
                rows_expected=each.plan.plan.root.rows_expected,
                remarks=list(each.plan.plan.root.remarks),
            )
            for each in found.routes
        ],
        decision=None
        if decision is None
        else DecisionRow(
            by=decision.by.value,
            route=decision.route,
            chosen_cost_estimated=decision.chosen_cost,
            other_cost_estimated=decision.other_cost,
            table=decision.table,
            index=decision.index,
            expected=decision.expected,
            break_even_computed=decision.break_even,
            other_wins_below=decision.other_wins_below,
        ),
    )
