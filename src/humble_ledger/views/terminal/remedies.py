"""Remedies, one line for each, and one with everything known of it."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType
from rich.text import Text

from humble_ledger.core.entries import RemedyEntry
from humble_ledger.core.remedies.model import Prediction, Remedy
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import labelled, plain_table


def remedies_view(entries: Sequence[RemedyEntry], numbers: Numbers) -> RenderableType:
    """One line for each remedy: gain, size, reason."""
    if not entries:
        return Text("No index is predicted to make any of these clearly cheaper.")
    table = plain_table(
        ("id", "fixed"), ("remedy", "left"), ("query", "fixed"), ("cost now", "right"),
        ("predicted", "right"), ("cheaper", "right"), ("size", "right"), ("because of", "left"),
    )  # fmt: skip
    for entry in entries:
        remedy = entry.remedy
        for place, p in enumerate(_best_first(remedy)):
            first = place == 0
            table.add_row(
                entry.id if first else "",
                Text(remedy.summary if first else ""),
                p.query,
                numbers.figure(p.cost_before),
                numbers.figure(p.cost_predicted),
                numbers.times(p.gain),
                numbers.size(remedy.size_bytes_predicted) if first else "",
                Text(remedy.reason if first else ""),
            )
    note = (
        "Costs are the server's estimates, predicted ones by formula; sizes are predicted. "
        f"Nothing was built. Try one:  humble trial {_first_query(entries[0])} "
        f"--remedy {entries[0].id}"
    )
    return Group(table, Text(""), Text(note, style="bright_black"))


def _best_first(remedy: Remedy) -> list[Prediction]:
    return sorted(remedy.predictions, key=lambda p: p.cost_predicted - p.cost_before)


def _first_query(entry: RemedyEntry) -> str:
    found = _best_first(entry.remedy)
    return found[0].query if found else "WHAT"


def remedy_view(entry: RemedyEntry, numbers: Numbers) -> RenderableType:
    """One remedy with everything known of it."""
    remedy = entry.remedy
    predictions = "\n".join(
        f"{p.query}: cost {numbers.figure(p.cost_before)} → {numbers.figure(p.cost_predicted)} "
        f"(predicted by {p.way}): {p.route} in place of {p.step}"
        + (f"; but {p.caution}" if p.caution else "")
        for p in _best_first(remedy)
    )
    upkeep = remedy.upkeep
    writes = (
        f"{numbers.whole(upkeep.inserted_rows)} rows inserted and "
        f"{numbers.whole(upkeep.updated_rows)} updated since the counters began; "
        "each would write to it too"
    )
    return labelled(
        ("remedy", f"{entry.id} {remedy.summary}, {entry.status}"),
        ("because of", remedy.reason),
        ("forwards", "\n".join(remedy.apply)),
        ("backwards", "\n".join(remedy.revert)),
        ("prediction", predictions or "none"),
        ("size", f"{numbers.size(remedy.size_bytes_predicted)} (predicted)"),
        ("upkeep", writes),
    )
