"""One query with everything the ledger knows of it."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType
from rich.table import Table

from humble_ledger.core.entries import PeriodEntry, PlanEntry
from humble_ledger.core.results.queries import QueryFindings
from humble_ledger.core.results.spans import in_spans
from humble_ledger.core.workload.durations import coarse
from humble_ledger.core.workload.usage import Usage
from humble_ledger.core.workload.values import SlowValue
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.code import senders_table
from humble_ledger.views.terminal.evidence import incidents_table, waits_table
from humble_ledger.views.terminal.parts import bar, labelled, plain_table, statement_text
from humble_ledger.views.terminal.queries import MEASURED
from humble_ledger.views.terminal.text import Text
from humble_ledger.views.wording import in_words

MOST_RUNS = 5
MOST_SLOW_VALUES = 3
MOST_SPANS = 12
BAR_WIDTH = 30


def query_view(found: QueryFindings, numbers: Numbers) -> RenderableType:
    """One query: its figures, the slowest runs, the statement to paste, its plans."""
    ranked = found.ranked
    query, usage = ranked.query, ranked.usage
    parts: list[RenderableType] = [
        labelled(
            ("query", f"{query.id}   fingerprint {query.fingerprint}"),
            ("runs", _runs_words(found, numbers)),
            ("share", _share_words(found, numbers)),
            ("work", _work_words(usage, numbers)),
            ("tables", ", ".join(query.tables)),
            ("application", ", ".join(query.applications)),
            ("seen in", ", ".join(query.sources)),
        )
    ]
    spread = _spread(usage, numbers) if usage.durations else None
    if spread is not None and spread.row_count > 1:
        parts += [Text(""), spread]
    if len(found.over_time) > 1:
        parts += [Text(""), _over_time(found.over_time, numbers)]
    if found.runs:
        parts += [Text(""), _runs(found, numbers)]
    for name, slow in found.slow_values[:MOST_SLOW_VALUES]:
        parts.append(Text(_slow_words(name, slow, numbers), style="yellow"))
    if found.runs:
        parts += [Text(""), Text("The slowest run, to paste:", style="bright_black")]
        parts.append(Text(statement_text(found.runs[0].statement, found.runs[0].parameters)))
    else:
        parts += [Text(""), Text(query.text)]
    if found.senders:
        parts += [Text(""), senders_table(found.senders, numbers)]
    if found.plans:
        parts += [Text(""), _plans(found.plans, numbers)]
    if found.waits:
        parts += [Text(""), waits_table(found.waits, numbers)]
    if found.incidents:
        parts += [Text(""), incidents_table(found.incidents, numbers)]
    if found.symptoms:
        parts.append(Text(""))
    for entry in found.symptoms:
        parts.append(
            Text(f"{entry.id}  {entry.symptom.name}: {in_words(entry.symptom.summary, numbers)}")
        )
    return Group(*parts)


def _runs_words(found: QueryFindings, numbers: Numbers) -> str:
    usage = found.ranked.usage
    if not usage.calls:
        return "none was captured"
    if not usage.timed:
        return f"{numbers.whole(usage.calls)} times in a script, not measured"
    words = (
        f"{numbers.whole(usage.calls)} runs, {numbers.ms(usage.total_ms)} in all, mean "
        f"{numbers.ms(usage.mean_ms)} ± {numbers.ms(usage.deviation_ms)}"
    )
    if usage.p95_ms is not None:
        words += f", p95 {numbers.ms(usage.p95_ms)}"
    if usage.max_ms is not None:
        words += f", slowest {numbers.ms(usage.max_ms)}"
    return f"{words} ({MEASURED[found.source]})"


def _share_words(found: QueryFindings, numbers: Numbers) -> str:
    if not found.ranked.usage.timed:
        return ""
    return f"{numbers.percent(found.ranked.share)} of all time captured from the {found.source}"


def _work_words(usage: Usage, numbers: Numbers) -> str:
    """What the server's statistics tell beside the time."""
    work, calls = usage.work, max(usage.calls, 1)
    said = []
    for figure, words in (
        (work.rows, "rows"), (work.pages_cached, "pages cached"), (work.pages_read, "pages read"),
        (work.pages_written, "pages written"), (work.temp_pages, "temporary pages"),
    ):  # fmt: skip
        if figure is not None and (figure or words in ("rows", "pages read")):
            said.append(f"{numbers.figure(figure / calls)} {words}")
    for figure, words in ((work.planning_ms, "planning"), (work.compile_ms, "compiling")):
        if figure:
            said.append(f"{numbers.ms(figure / calls)} {words}")
    if work.wal_bytes:
        said.append(f"{numbers.size(round(work.wal_bytes / calls))} WAL")
    return f"per run {', '.join(said)}" if said else ""


def _spread(usage: Usage, numbers: Numbers) -> Table:
    """How long the runs took: a bar for each third of a power of ten that has some."""
    edges = tuple(round(10 ** (n / 3), 3 if n < 0 else 1) for n in range(-9, 19))
    counts = coarse(usage.durations, edges)
    filled = [place for place, count in enumerate(counts) if count]
    most = max(counts)
    table = plain_table(("duration", "right"), ("runs", "right"), ("", "left"))
    for place in range(filled[0], filled[-1] + 1):
        low = edges[place - 1] if place else 0.0
        high = numbers.figure(edges[place]) if place < len(edges) else "…"
        span = f"{numbers.figure(low)} – {high} ms"
        table.add_row(span, numbers.whole(counts[place]), bar(counts[place] / most, BAR_WIDTH))
    return table


def _over_time(periods: Sequence[PeriodEntry], numbers: Numbers) -> RenderableType:
    """When it ran: at most two dozen bars of equal spans of time."""
    spans = in_spans(periods, MOST_SPANS)
    most = max(total for _, _, total in spans) or 1.0
    table = plain_table(("from", "fixed"), ("runs", "right"), ("total ms", "right"), ("", "left"))
    for begun, calls, total in spans:
        table.add_row(
            begun, numbers.whole(calls), numbers.figure(total), bar(total / most, BAR_WIDTH)
        )
    return table


def _slow_words(name: str, slow: SlowValue, numbers: Numbers) -> str:
    value = "NULL" if slow.value is None else slow.value
    return (
        f"slow for {name} = {value}: {numbers.times(slow.ratio)} "
        f"(median {numbers.ms(slow.median_ms)} of {numbers.whole(slow.runs)} runs, "
        f"others {numbers.ms(slow.others_ms)})"
    )


def _runs(found: QueryFindings, numbers: Numbers) -> Table:
    table = plain_table(("slowest runs", "fixed"), ("ms", "right"), ("values", "left"))
    for n, run in enumerate(found.runs[:MOST_RUNS]):
        shown = ", ".join(
            f"{column.name} = {'NULL' if column.values[n] is None else column.values[n]}"
            for column in found.columns
        )
        started = (run.started_at or "unknown").replace("T", " ")[:19]
        ms = "not run" if run.duration_ms is None else numbers.figure(run.duration_ms)
        table.add_row(started, ms, Text(shown or "none"))
    return table


def _plans(plans: Sequence[PlanEntry], numbers: Numbers) -> Table:
    table = plain_table(
        ("plan", "fixed"), ("read", "fixed"), ("cost (estimated)", "right"),
        ("execution (measured)", "right"),
    )  # fmt: skip
    for entry in plans:
        table.add_row(
            entry.id,
            entry.at.replace("T", " ")[:19] + (", from the log" if entry.origin == "log" else ""),
            numbers.figure(entry.plan.cost_total),
            numbers.ms(entry.plan.execution_ms) if entry.plan.measured else "not measured",
        )
    return table
