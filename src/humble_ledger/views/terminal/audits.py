"""An audit in the terminal."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType

from humble_ledger.core.audits.promises import BROKEN, PromiseToday, Standing
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import plain_table
from humble_ledger.views.terminal.text import Text

_WORDS = {
    Standing.HELD: "held",
    Standing.NOT_MADE: "not made",
    Standing.NOT_USED: "not used",
    Standing.DEARER: "dearer",
    Standing.UNKNOWN: "unknown",
}


def audit_view(found: Sequence[PromiseToday], numbers: Numbers) -> RenderableType:
    """Each promise with its costs and how it stands; the broken ones first."""
    if not found:
        return Text('No trial that helped a query was settled with "keep", so nothing is promised.')
    table = plain_table(
        ("trial", "fixed"), ("query", "fixed"), ("cost then", "right"), ("promised", "right"),
        ("now", "right"), ("stands", "fixed"), ("why", "left"), ("change", "left"),
    )  # fmt: skip
    for each in sorted(found, key=lambda e: e.standing not in BROKEN):
        promise = each.promise
        style = "red" if each.standing in BROKEN else ""
        table.add_row(
            promise.trial,
            promise.query,
            *(
                numbers.figure(cost)
                for cost in (promise.cost_before, promise.cost_promised, each.cost_now)
            ),
            Text(_WORDS[each.standing], style=style),
            Text(each.words),
            Text(f"{', '.join(promise.remedies)}, {promise.summary}"),
        )
    broken = sum(each.standing in BROKEN for each in found)
    told = f"{numbers.count(len(found), 'promises')}, {broken} broken" if broken else "all hold"
    if not broken and any(each.standing is Standing.UNKNOWN for each in found):
        told = "none is broken, as far as can be seen from here"
    return Group(table, Text(""), Text(f"{told} (costs estimated by the server, nothing was run)"))
