"""The ranking, and one query."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType
from rich.table import Table
from rich.text import Text

from humble_ledger.core.entries import CaptureEntry, PlanEntry, RunEntry, SymptomEntry
from humble_ledger.core.statements.kinds import shorten
from humble_ledger.core.workload.ranking import RankedQuery
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import (
    labelled,
    last_column_gives_way,
    plain_table,
    statement_text,
)

MOSTLY = 0.8
MOST_RUNS = 5


def queries_view(
    ranked: Sequence[RankedQuery], numbers: Numbers, top: int | None, chosen: bool = False
) -> RenderableType:
    """The ranking with shares, and how many queries make 80 % of the time.

    ``chosen`` tells that only some of the captured runs were asked for.
    """
    if not ranked and chosen:
        return Text("No captured run is in that choice. See them all:  humble queries")
    if not ranked:
        return Text("No query has been captured yet. Begin with:  humble capture log FILE")
    shown = ranked[:top] if top else ranked
    table = plain_table(
        ("id", "fixed"), ("total ms", "right"), ("share", "right"), ("calls", "right"),
        ("mean ms", "right"), ("p95 ms", "right"), ("max ms", "right"), ("query", "left"),
    )  # fmt: skip
    for each in shown:
        table.add_row(
            each.query.id,
            numbers.figure(each.total_ms),
            numbers.percent(each.share),
            numbers.whole(each.calls),
            numbers.figure(each.mean_ms),
            numbers.figure(each.p95_ms),
            numbers.figure(each.max_ms),
            Text(shorten(each.query.text, 200)),
        )
    few = next((n for n, e in enumerate(ranked, 1) if e.running_share >= MOSTLY), len(ranked))
    total = sum(each.total_ms for each in ranked)
    note = (
        f"{len(ranked)} queries{' chosen' if chosen else ''}, {numbers.ms(total)} in all "
        "(measured by the server); "
        f"the first {few} take {numbers.percent(ranked[few - 1].running_share)}."
    )
    return Group(last_column_gives_way(table), Text(""), Text(note, style="bright_black"))


def query_view(
    ranked: RankedQuery,
    runs: Sequence[RunEntry],
    plans: Sequence[PlanEntry],
    symptoms: Sequence[SymptomEntry],
    numbers: Numbers,
) -> RenderableType:
    """One query: its figures, the slowest runs, the statement to paste, its plans."""
    query = ranked.query
    parts: list[RenderableType] = [
        labelled(
            ("query", f"{query.id}   fingerprint {query.fingerprint}"),
            (
                "runs",
                f"{numbers.whole(ranked.calls)} runs, {numbers.ms(ranked.total_ms)} in all, mean "
                f"{numbers.ms(ranked.mean_ms)}, p95 {numbers.ms(ranked.p95_ms)}, slowest "
                f"{numbers.ms(ranked.max_ms)} (measured by the server)",
            ),
            ("share", f"{numbers.percent(ranked.share)} of all captured time"),
            ("tables", ", ".join(query.tables)),
            ("sent by", ", ".join(query.applications)),
            ("seen in", ", ".join(query.sources)),
        )
    ]
    if runs:
        parts += [Text(""), _runs(runs, numbers), Text("")]
        parts.append(Text("The slowest run, to paste:", style="bright_black"))
        parts.append(Text(statement_text(runs[0].statement, runs[0].parameters)))
    else:
        parts += [Text(""), Text(query.text)]
    if plans:
        parts += [Text(""), _plans(plans, numbers)]
    if symptoms:
        parts.append(Text(""))
    for entry in symptoms:
        parts.append(Text(f"{entry.id}  {entry.symptom.name}: {entry.symptom.summary}"))
    return Group(*parts)


def _runs(runs: Sequence[RunEntry], numbers: Numbers) -> Table:
    table = plain_table(("slowest runs", "fixed"), ("ms", "right"), ("values", "left"))
    for run in runs[:MOST_RUNS]:
        values = ", ".join("NULL" if v is None else v for v in run.parameters)
        started = (run.started_at or "unknown").replace("T", " ")[:19]
        table.add_row(started, numbers.figure(run.duration_ms), Text(values or "in the text"))
    return table


def _plans(plans: Sequence[PlanEntry], numbers: Numbers) -> Table:
    table = plain_table(
        ("plan", "fixed"), ("read", "fixed"), ("cost (estimated)", "right"),
        ("execution (measured)", "right"),
    )  # fmt: skip
    for entry in plans:
        table.add_row(
            entry.id,
            entry.at.replace("T", " ")[:19],
            numbers.figure(entry.plan.cost_total),
            numbers.ms(entry.plan.execution_ms) if entry.plan.measured else "not measured",
        )
    return table


def capture_view(entry: CaptureEntry, numbers: Numbers) -> RenderableType:
    """What a capture brought."""
    passed = ", ".join(f"{numbers.whole(n)} × {why}" for why, n in entry.passed_over.items())
    return labelled(
        ("capture", f"{entry.id} from {entry.place}: {numbers.whole(entry.lines)} lines read"),
        (
            "kept",
            f"{numbers.whole(entry.kept)} runs of {numbers.whole(entry.queries)} queries, "
            f"{numbers.whole(entry.new_queries)} of them new",
        ),
        ("passed over", passed),
        ("first unreadable", entry.first_unreadable),
        ("next", "humble queries" if entry.kept else ""),
    )
