"""Remedies, one line for each, and one with everything known of it."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType
from rich.text import Text

from humble_ledger.core.entries import RemedyEntry
from humble_ledger.core.remedies.model import Prediction, Remedy, RemedyType
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import labelled, plain_table


def remedies_view(
    entries: Sequence[RemedyEntry], numbers: Numbers, top: int | None = None
) -> RenderableType:
    """One line for each remedy and query: gain, size, reason; the best first."""
    if not entries:
        return Text("Nothing is predicted to make any of these clearly cheaper.")
    shown = entries[:top] if top is not None else entries
    table = plain_table(
        ("id", "fixed"), ("remedy", "left"), ("query", "fixed"), ("cost now", "right"),
        ("predicted", "right"), ("cheaper", "right"), ("size", "right"), ("because of", "left"),
    )  # fmt: skip
    for entry in shown:
        for place, cells in enumerate(_rows(entry.remedy, numbers)):
            first = place == 0
            table.add_row(
                entry.id if first else "",
                Text(entry.remedy.summary if first else ""),
                *cells,
                _size(entry.remedy, numbers) if first else "",
                Text(entry.remedy.reason if first else ""),
            )
    parts: list[RenderableType] = [table, Text("")]
    if len(shown) < len(entries):
        parts.append(Text(f"{len(entries) - len(shown)} more; leave --top out to see them."))
    parts.append(Text(_note(shown), style="bright_black"))
    return Group(*parts)


def _rows(remedy: Remedy, numbers: Numbers) -> list[tuple[str, str, str, str]]:
    """(query, cost now, predicted, cheaper) of each query it is for; at least one row."""
    rows = [
        (
            p.query,
            numbers.figure(p.cost_before),
            numbers.figure(p.cost_predicted),
            numbers.times(p.gain),
        )
        for p in _best_first(remedy)
    ]
    told = {row[0] for row in rows}
    rows += [(query, "", "unknown", "") for query in remedy.queries if query not in told]
    return rows or [("", "", "", "")]


def _size(remedy: Remedy, numbers: Numbers) -> str:
    size = remedy.size_bytes_predicted
    if size is None:
        return ""
    return f"−{numbers.size(-size)}" if size < 0 else numbers.size(size)


def _note(shown: Sequence[RemedyEntry]) -> str:
    note = (
        "Costs are the server's estimates; predicted ones by formula for indexes, by the planner "
        "itself for settings and rewrites. What statistics bring only a trial tells. Nothing was "
        "built."
    )
    first = next((e for e in shown if e.remedy.index is not None), None)
    if first is None:
        return note
    return f"{note} Try one:  humble trial {_first_query(first)} --remedy {first.id}"


def remedies_sql(entries: Sequence[RemedyEntry]) -> str:
    """A script of all remedies for review: forwards, and how to go back as comments."""
    parts = [
        "-- For review. Each change with what it is for; the statements behind «back:» undo it.",
        "-- CREATE and DROP INDEX make writers wait while they run; with CONCURRENTLY they do not.",
    ]
    for entry in entries:
        remedy = entry.remedy
        gains = "; ".join(
            f"{p.query}: cost {p.cost_before:,.0f} to {p.cost_predicted:,.0f} "
            f"(predicted by {p.way})"
            for p in _best_first(remedy)
        )
        parts += ["", f"-- {entry.id} {remedy.summary}: {' '.join(remedy.reason.split())}"]
        parts += [f"-- {gains}"] if gains else []
        parts += list(remedy.apply)
        back = (line for statement in remedy.revert for line in statement.splitlines())
        parts += [f"-- back: {line}" for line in back]
    return "\n".join(parts)


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
        + (
            "none of them would write to it any more"
            if remedy.type is RemedyType.REMOVAL
            else "each would write to it too"
        )
    )
    return labelled(
        ("remedy", f"{entry.id} {remedy.summary}, {entry.status}"),
        ("because of", remedy.reason),
        ("forwards", "\n".join(remedy.apply)),
        ("backwards", "\n".join(remedy.revert) or "nothing to undo"),
        ("prediction", predictions or "unknown: only a trial tells"),
        ("size", _size_words(remedy, numbers)),
        ("upkeep", writes if remedy.type in (RemedyType.INDEX, RemedyType.REMOVAL) else ""),
        ("against", ", ".join(remedy.cures)),
    )


def _size_words(remedy: Remedy, numbers: Numbers) -> str:
    size = remedy.size_bytes_predicted
    if size is None:
        return ""
    if size < 0:
        return f"gives back {numbers.size(-size)} (measured)"
    return f"{numbers.size(size)} (predicted)"
