"""The ways a server could run a statement, and what decides between them."""

from __future__ import annotations

from rich.console import Group, RenderableType

from humble_ledger.core.results.plans import Route, Routes
from humble_ledger.core.routes.deciding import Decision, Decisive
from humble_ledger.core.routes.exploring import said
from humble_ledger.core.statements.kinds import shorten
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import labelled, plain_table
from humble_ledger.views.terminal.saved_routes import saved_routes_view
from humble_ledger.views.terminal.text import Text

# Below this a difference of two measured runs says nothing.
TELLING = 1.25
# The planner itself takes costs that differ by no more than one percent for equal.
NEARLY = 1.01
WITHIN = 1.15


def routes_view(found: Routes, numbers: Numbers) -> RenderableType:
    """One line for each way, then what decides."""
    if not found.asked:
        return saved_routes_view(found, numbers)
    parts: list[RenderableType] = [
        labelled(("query", found.query), ("statement", shorten(found.statement, 300))),
        Text(""),
        _table(found, numbers),
        Text(""),
        *(Text(line) for line in decision_lines(found, numbers)),
        Text(""),
        Text(_foot(found, numbers), style="bright_black"),
    ]
    return Group(*parts)


def decision_lines(found: Routes, numbers: Numbers) -> list[str]:
    """What decides, and whether what was measured bears it out."""
    lines = []
    if found.decision is None:
        lines.append(f"The server knows no other way ({found.asked - 1} tried).")
    else:
        lines.append(_decides(found.decision, numbers))
    timed = [r for r in found.routes if r.plan.plan.execution_ms is not None]
    if timed and timed[0] is found.routes[0] and len(timed) > 1:
        lines.append(_measured(timed, found, numbers))
    return lines


def _table(found: Routes, numbers: Numbers) -> RenderableType:
    measured = any(route.plan.plan.measured for route in found.routes)
    columns = [("route", "right"), ("plan", "fixed"), ("cost", "right"), ("×", "right")]
    if measured:
        columns += [("ms", "right"), ("pages", "right")]
    table = plain_table(*columns, ("how", "left"), ("without", "left"))
    least = found.routes[0].plan.plan.cost_total or 0.0
    for number, route in enumerate(found.routes, 1):
        plan = route.plan.plan
        cost = plan.cost_total or 0.0
        cells = [
            str(number),
            route.plan.id,
            numbers.figure(cost),
            numbers.figure(cost / least) if least else "–",
        ]
        if measured:
            cells += [_time(route, numbers), _pages(route, numbers)]
        without = ", ".join(sorted(route.avoided)) or "the server's choice"
        table.add_row(*cells, said(plan), without, style="bold" if number == 1 else "")
    return table


def _time(route: Route, numbers: Numbers) -> str:
    if route.stopped_ms is not None:
        return f"> {numbers.figure(route.stopped_ms)}"
    return numbers.figure(route.plan.plan.execution_ms)


def _pages(route: Route, numbers: Numbers) -> str:
    pages = route.plan.plan.root.pages
    return numbers.whole(pages.touched) if pages is not None else "–"


def _decides(decision: Decision, numbers: Numbers) -> str:
    way = f"Route {decision.route}"
    costs = (
        f"costs {numbers.figure(decision.other_cost)} against "
        f"{numbers.figure(decision.chosen_cost)} (estimated)"
    )
    if decision.by is Decisive.SHARE:
        return _by_share(decision, f"{way} {costs}", numbers)
    if decision.by is Decisive.LOOKUPS:
        return _by_lookups(decision, f"{way} {costs}", numbers)
    ratio = decision.other_cost / decision.chosen_cost if decision.chosen_cost else 1.0
    if ratio < NEARLY:
        return f"{way} {costs}: too near for the planner to tell apart."
    return f"{way} {costs}, {numbers.times(ratio)}: no single figure decides, but their sum."


def _by_share(decision: Decision, text: str, numbers: Numbers) -> str:
    share, even = numbers.percent(decision.expected), decision.break_even
    only = "" if decision.other_wins_below else "only "
    text += f", because {only}{share} of the rows of {decision.table} match (expected)"
    if even is None:
        return text + "; by the cost model it would not win at any share."
    side = "below" if decision.other_wins_below else "above"
    return text + f"; it would win {side} about {numbers.percent(even)} (computed)."


def _by_lookups(decision: Decision, text: str, numbers: Numbers) -> str:
    way = f" by {decision.index}" if decision.index else ""
    times, even = numbers.whole(decision.expected), decision.break_even
    if decision.other_wins_below:
        text += f", because it would read {decision.table}{way} {times} times (expected)"
        side = "below"
    else:
        text += f", because {decision.table} is read{way} only {times} times (expected)"
        side = "above"
    if even is None:
        return text + "; by the cost model it would not win at any number."
    return text + f"; it would win {side} about {numbers.whole(even)} times (computed)."


def _measured(timed: list[Route], found: Routes, numbers: Numbers) -> str:
    times = [r.plan.plan.execution_ms or 0.0 for r in timed]
    best = min(range(len(times)), key=times.__getitem__)
    if best == 0 or not times[best] or times[0] / times[best] < TELLING:
        return "Measured once each, warm: no other way was clearly quicker."
    route = timed[best]
    number = found.routes.index(route) + 1
    first = timed[0].plan.plan.cost_total or 0.0
    ratio = (route.plan.plan.cost_total or 0.0) / first if first else 1.0
    why = (
        f"The estimates put them within {numbers.percent(abs(ratio - 1))} of each other"
        if ratio < WITHIN
        else "The estimates misled the planner"
    )
    return (
        f"Measured once each, warm: route {number} took {numbers.figure(times[best])} ms, the "
        f"server's choice {numbers.figure(times[0])} ms. {why}; see where they differ:  "
        f"humble compare {timed[0].plan.id} {route.plan.id}"
    )


def _foot(found: Routes, numbers: Numbers) -> str:
    left = found.found - len(found.routes)
    more = f" {left} dearer ones are left out." if left > 0 else ""
    said = (
        f"{numbers.count(found.found, 'ways')} came to light in "
        f"{numbers.count(found.asked, 'plans')} asked for."
    )
    return said + more
