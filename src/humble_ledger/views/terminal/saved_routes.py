"""Routes that a server itself listed, as somebody saved them; nobody was asked for more."""

from __future__ import annotations

from rich.console import Group, RenderableType

from humble_ledger.core.results.plans import Routes
from humble_ledger.core.routes.exploring import said
from humble_ledger.core.statements.kinds import shorten
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import Hanging, labelled, plain_table
from humble_ledger.views.terminal.text import Text


def saved_routes_view(found: Routes, numbers: Numbers) -> RenderableType:
    """One line for each route with what the server notes of it; the cheapest is its choice."""
    table = plain_table(
        ("route", "right"), ("relative cost", "right"), ("×", "right"),
        ("rows expected", "right"), ("how", "left"),
    )  # fmt: skip
    least = found.routes[0].plan.plan.cost_total or 0.0
    notes: list[RenderableType] = []
    for number, route in enumerate(found.routes, 1):
        plan = route.plan.plan
        cost = plan.cost_total or 0.0
        table.add_row(
            str(number),
            numbers.figure(cost),
            numbers.figure(cost / least) if least else "–",
            numbers.rows(plan.root.rows_expected),
            said(plan),
            style="bold" if number == 1 else "",
        )
        notes += [Hanging(f"  {number}  ", note) for note in plan.root.remarks]
    count = len(found.routes)
    engine = found.routes[0].plan.plan.engine
    foot = (
        f"Route 1 is the server's choice, as it costs least (estimated by {engine})."
        if count > 1
        else f"{engine} lists no other route."
    )
    parts: list[RenderableType] = []
    if found.statement:
        parts += [labelled(("statement", shorten(found.statement, 300))), Text("")]
    parts += [table, Text(""), Text("What the server notes:", style="bold"), *notes, Text("")]
    return Group(*parts, Text(foot, style="bright_black"))
