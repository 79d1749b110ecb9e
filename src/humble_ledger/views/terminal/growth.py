"""How the cost of queries grows with their tables, and where their plans flip."""

from __future__ import annotations

from rich.console import Group, RenderableType

from humble_ledger.core.remedies.choice.worth import CLEAR_GAIN
from humble_ledger.core.results.growth import GrownQuery, Growth, Worth
from humble_ledger.core.routes.exploring import said
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import labelled, plain_table
from humble_ledger.views.terminal.text import Text


def growth_view(found: Growth, numbers: Numbers) -> RenderableType:
    """One line for each query that reads a grown table, the fastest growing first; its flips."""
    heading = labelled(
        *(
            ("grows", f"{table} to {numbers.figure(times)}× its rows")
            for table, times in found.tables
        )
    )
    parts: list[RenderableType] = [heading, Text("")]
    if not found.queries:
        parts.append(Text("None of the queries reads a table that grows."))
    else:
        parts.append(_table(found, numbers))
        if any(query.flips for query in found.queries):
            parts += [Text(""), _flips(found, numbers)]
        if any(query.worths for query in found.queries):
            parts += [Text(""), _worths(found, numbers)]
    parts += [Text(f"{query} could not be planned: {why}") for query, why in found.left_out]
    parts += [Text(""), Text(_note(found, numbers), style="bright_black")]
    return Group(*parts)


def _in_order(found: Growth) -> list[GrownQuery]:
    return sorted(found.queries, key=lambda q: -q.power)


def _table(found: Growth, numbers: Numbers) -> RenderableType:
    most = numbers.figure(max(times for _, times in found.tables))
    table = plain_table(
        ("query", "fixed"), ("cost now", "right"), (f"at {most}×", "right"), ("dearer", "right"),
        ("power", "right"), ("flips", "right"), ("plan then", "left"),
    )  # fmt: skip
    for query in _in_order(found):
        first, last = query.sizes[0], query.sizes[-1]
        table.add_row(
            query.query, numbers.figure(first.cost), numbers.figure(last.cost),
            numbers.times(last.cost / max(first.cost, 0.01)), numbers.fixed(query.power, 2),
            str(len(query.flips) or ""), said(last.plan),
            style="bold" if query.worse_than_linear else "",
        )  # fmt: skip
    return table


def _flips(found: Growth, numbers: Numbers) -> RenderableType:
    table = plain_table(
        ("query", "fixed"), ("flips at", "right"), ("cost", "right"), ("from", "left"),
        ("to", "left"),
    )  # fmt: skip
    for query in _in_order(found):
        for flip in query.flips:
            table.add_row(
                query.query, f"{numbers.figure(flip.factor)}×", numbers.figure(flip.first.cost),
                said(flip.last.plan), said(flip.first.plan),
            )  # fmt: skip
    return table


def _worths(found: Growth, numbers: Numbers) -> RenderableType:
    most = numbers.figure(max(times for _, times in found.tables))
    table = plain_table(
        ("query", "fixed"), ("id", "fixed"), ("index", "left"), ("cheaper now", "right"),
        (f"at {most}×", "right"), ("pays", "left"),
    )  # fmt: skip
    for query in _in_order(found):
        for each in query.worths:
            table.add_row(
                query.query, each.remedy, Text(each.index), numbers.times(each.gain_now),
                numbers.times(each.gain_then), _pays(each, numbers),
            )  # fmt: skip
    return table


def _pays(worth: Worth, numbers: Numbers) -> str:
    """From which size to which an index pays: "always", "from 12.0×", "up to 40.0×"."""
    if not worth.turns:
        return "always" if worth.pays_now else "never"
    pays, parts = worth.pays_now, []
    for turn in worth.turns:
        parts.append(f"{'up to' if pays else 'from'} {numbers.figure(turn)}×")
        pays = not pays
    return ", ".join(parts)


def _note(found: Growth, numbers: Numbers) -> str:
    added = "older rows" if found.longer_history else "more rows of the same kind"
    note = (
        'A "power" of 1 grows in step with the rows, 0 not at all; bold grows faster. '
        "Costs are estimates of the planner, on a copy of the target, for "
        f"{added}: {numbers.count(found.asked, 'plans')} asked."
    )
    if any(query.worths for query in found.queries):
        note += f" An index pays when it makes the query {numbers.figure(CLEAR_GAIN)}× cheaper."
    if found.unaffected:
        count = len(found.unaffected)
        note += f" {count} {'query reads' if count == 1 else 'queries read'} none of these tables."
    return note
