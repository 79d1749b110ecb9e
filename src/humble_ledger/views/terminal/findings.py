"""Symptoms and remedies."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from humble_ledger.core.entries import PlanEntry, RemedyEntry, SymptomEntry
from humble_ledger.core.remedies.model import Prediction, Remedy
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import Hanging, labelled, plain_table


def symptoms_view(
    found: Sequence[tuple[PlanEntry, Sequence[SymptomEntry]]], numbers: Numbers
) -> RenderableType:
    """Symptoms by query, each with cost and cause; healthy queries on one line."""
    parts: list[RenderableType] = []
    healthy = [plan.query or plan.id for plan, entries in found if not entries]
    for plan, entries in found:
        if entries:
            parts += [_heading(plan, numbers), *(_symptom(e, numbers) for e in entries), Text("")]
    if healthy:
        parts.append(Text(f"No symptom found in {', '.join(healthy)}."))
    return Group(*parts) if parts else Text("There is no captured query to diagnose.")


def _heading(plan: PlanEntry, numbers: Numbers) -> RenderableType:
    figures = (
        f"{numbers.ms(plan.plan.execution_ms)} measured"
        if plan.plan.measured
        else f"cost {numbers.figure(plan.plan.cost_total)} estimated, not measured"
    )
    name = f"{plan.query}  " if plan.query else ""
    statement = " ".join(plan.statement.split())
    line = Text.assemble((name, "bold"), (f"{plan.id}, {figures}   ", "bright_black"), statement)
    line.no_wrap, line.overflow = True, "ellipsis"
    return line


def _symptom(entry: SymptomEntry, numbers: Numbers) -> RenderableType:
    symptom = entry.symptom
    if symptom.harmless:
        cost = "fine"
    elif symptom.cost_ms is not None:
        share = numbers.percent(symptom.cost_share)
        cost = f"costs up to {numbers.ms(symptom.cost_ms)}"
        cost += f", {share} of the time" if symptom.cost_share is not None else " in all"
    elif symptom.cost_share:
        cost = f"costs up to {numbers.percent(symptom.cost_share)} of the estimated cost"
    else:
        cost = "cost unknown"
    lines: list[RenderableType] = [
        Text.assemble(f"{entry.id:<4} ", (symptom.name, "bold"), f", {cost}"),
        Hanging(" " * 5, f"{_place(entry)}: {symptom.summary}"),
        Hanging(" " * 5, f"cause: {symptom.cause.name} ({symptom.cause.detail})"),
    ]
    if entry.remedies:
        lines.append(Hanging(" " * 5, f"might help: {', '.join(entry.remedies)}"))
    return Padding(Group(*lines), (0, 0, 0, 2))


def _place(entry: SymptomEntry) -> str:
    symptom = entry.symptom
    if entry.plan is None:
        return f"in the runs of {entry.capture}"
    return f"step {symptom.node}, {symptom.step}"


def symptom_view(entry: SymptomEntry, numbers: Numbers) -> RenderableType:
    """One symptom with all its evidence."""
    symptom = entry.symptom
    evidence = "\n".join(
        f"{key} = {_plain(value, numbers)}" for key, value in symptom.evidence.items()
    )
    return labelled(
        (
            "symptom",
            f"{entry.id} {symptom.name}, in {entry.query or ''}"
            + (f" by plan {entry.plan}" if entry.plan else ""),
        ),
        ("seen", _place(entry)),
        ("finding", symptom.summary),
        ("cause", f"{symptom.cause.name}: {symptom.cause.detail}"),
        (
            "cost",
            ""
            if symptom.harmless
            else f"{numbers.ms(symptom.cost_ms)}, {numbers.percent(symptom.cost_share)} at most",
        ),
        ("evidence", evidence),
        ("might help", ", ".join(entry.remedies)),
    )


def _plain(value: object, numbers: Numbers) -> str:
    if isinstance(value, bool) or value is None:
        return str(value)
    if not isinstance(value, int | float):
        return str(value)
    return numbers.whole(value) if value == round(value) else numbers.figure(value)


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
