"""What was seen beside a query's runs: waits, and incidents of the log."""

from __future__ import annotations

from collections.abc import Sequence

from rich.table import Table

from humble_ledger.core.entries import IncidentEntry, WaitEntry
from humble_ledger.core.glossary.incidents import MEANINGS
from humble_ledger.core.glossary.waits import meaning_of_wait
from humble_ledger.core.workload.sampling import RUNNING
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import plain_table
from humble_ledger.views.terminal.text import Text


def incidents_table(incidents: Sequence[IncidentEntry], numbers: Numbers) -> Table:
    """Incidents by kind: how often, how much, when last."""
    table = plain_table(
        ("in the log", "fixed"), ("times", "right"), ("in all", "right"), ("most", "right"),
        ("last", "fixed"), ("", "left"),
    )  # fmt: skip
    for kind in dict.fromkeys(each.incident.kind for each in incidents):
        mine = [each.incident for each in incidents if each.incident.kind is kind]
        meaning = MEANINGS[kind]
        amounts = [each.amount for each in mine if each.amount is not None]
        shown = numbers.size if meaning.unit == "bytes" else numbers.ms
        last = max((each.at for each in mine if each.at), default="unknown")
        table.add_row(
            meaning.name,
            numbers.whole(len(mine)),
            shown(round(sum(amounts))) if amounts else "",
            shown(round(max(amounts))) if amounts else "",
            last.replace("T", " ")[:19],
            Text(meaning.words),
        )
    return table


def waits_table(waits: Sequence[WaitEntry], numbers: Numbers) -> Table:
    """What a query was seen waiting for, with what that means."""
    table = plain_table(("waited for", "fixed"), ("seen", "right"), ("", "left"))
    whole = sum(each.total_ms for each in waits) or 1.0
    for each in waits:
        name = each.event if each.kind == RUNNING else f"{each.kind}: {each.event}"
        table.add_row(
            name,
            f"{numbers.ms(each.total_ms)}, {numbers.percent(each.total_ms / whole)}",
            Text(meaning_of_wait(each.kind, each.event).words),
        )
    return table
