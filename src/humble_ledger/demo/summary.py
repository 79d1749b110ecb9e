"""The whole workload in one table: time, first symptom with its cause, best remedy."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType

from humble_ledger.core.entries import RemedyEntry, SymptomEntry
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import plain_table
from humble_ledger.views.terminal.text import Text
from humble_ledger.workflow.diagnosing.everything import diagnose
from humble_ledger.workflow.proposing.everything import propose
from humble_ledger.workflow.reading.ranking import ranking
from humble_ledger.workflow.workspace import Workspace


def summary_view(workspace: Workspace) -> RenderableType:
    """Diagnose and propose for every captured query, and show one line for each."""
    numbers = Numbers(workspace.configuration.number_style)
    ranked = ranking(workspace).rows
    judged = diagnose(workspace, [row.query.id for row in ranked], measure=True)
    symptoms = {each.plan.query: each.symptoms for each in judged.plans}
    remedies = propose(workspace).remedies
    table = plain_table(
        ("id", "fixed"), ("total ms", "right"), ("calls", "right"),
        ("first symptom: cause", "left"), ("best remedy: cost, predicted", "left"),
    )  # fmt: skip
    for each in ranked:
        query = each.query.id
        table.add_row(
            query,
            numbers.figure(each.usage.total_ms),
            numbers.whole(each.usage.calls),
            Text(_first(symptoms.get(query, ()))),
            Text(_best(query, remedies, numbers)),
        )
    note = (
        "Times are measured by the server; costs are estimates in its units, the last one "
        "predicted. A query without a symptom may still be a trouble this version does not know."
    )
    return Group(table, Text(""), Text(note, style="bright_black"))


def _first(found: Sequence[SymptomEntry]) -> str:
    return f"{found[0].symptom.name}: {found[0].symptom.cause.name}" if found else "–"


def _best(query: str, remedies: Sequence[RemedyEntry], numbers: Numbers) -> str:
    options = [
        (p.cost_predicted, p.cost_before, entry)
        for entry in remedies
        for p in entry.remedy.predictions
        if p.query == query
    ]
    if not options:
        return "–"
    after, before, entry = min(options, key=lambda option: option[0])
    words = entry.remedy.index.words if entry.remedy.index else entry.remedy.summary
    if after >= before:
        return f"{entry.id} {words}: the cost says nothing of it, a trial does"
    return f"{entry.id} {words}: {numbers.figure(before)} → {numbers.figure(after)}"
