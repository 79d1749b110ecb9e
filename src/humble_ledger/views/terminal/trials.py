"""Trials, settlements, history."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.console import Group, RenderableType
from rich.text import Text

from humble_ledger.core.entries import EventEntry, RemedyEntry, SettlementEntry, TrialEntry
from humble_ledger.core.trials.model import QueryTrial, Side, Trial, Verdict
from humble_ledger.core.trials.ratio import RatioInterval
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import labelled, plain_table

_STYLES = {
    Verdict.FASTER: "green",
    Verdict.LIGHTER: "green",
    Verdict.SLOWER: "red",
    Verdict.HEAVIER: "red",
}
_WAYS = {
    "uncommitted-index": "an index that only one of two connections saw, rolled back after",
    "two-statements": "one connection sent the old statement, the other the new one",
    "uncommitted-change": "a change that only one of two connections saw, rolled back after",
}


def trial_view(
    entry: TrialEntry,
    remedies: Sequence[RemedyEntry],
    settlements: Sequence[SettlementEntry],
    numbers: Numbers,
) -> RenderableType:
    """A trial: the verdict, both sides beside each other, and what speaks for it."""
    trial = entry.trial
    if trial is None:
        left = ", ".join(name for _, name in entry.creations)
        return labelled(
            ("trial", f"{entry.id}, {entry.status}"),
            ("result", "none"),
            ("wanted to create", left),
            ("next", "humble tidy" if entry.status == "running" else ""),
        )
    parts: list[RenderableType] = [_heading(entry, trial, remedies, numbers)]
    for query in trial.queries:
        predicted = [
            p.cost_predicted
            for r in remedies
            for p in r.remedy.predictions
            if p.query == query.query
        ]
        parts += [Text(""), _query(query, predicted, numbers)]
    for settled in settlements:
        files = f": {', '.join(settled.files)}" if settled.files else ""
        parts.append(
            Text(f"\nsettled {settled.at[:10]}: {settled.decision} ({settled.reason}){files}")
        )
    if not settlements:
        parts += [
            Text(""),
            Text(f"Decide:  humble settle {entry.id} keep|drop", style="bright_black"),
        ]
    return Group(*parts)


def _heading(
    entry: TrialEntry, trial: Trial, remedies: Sequence[RemedyEntry], numbers: Numbers
) -> RenderableType:
    tried = "; ".join(f"{r.id}, {r.remedy.summary}" for r in remedies)
    return labelled(
        ("trial", f"{entry.id}: {tried}" + (", stopped early" if trial.stopped_early else "")),
        ("way", _WAYS.get(trial.way, trial.way)),
        (
            "built" if trial.size_bytes else "made",
            f"in {numbers.ms(trial.build_ms)}"
            + (f", {numbers.size(trial.size_bytes)}" if trial.size_bytes else "")
            + " (measured)"
            if trial.build_ms
            else "",
        ),
        ("left behind", ", ".join(trial.left_behind) or "nothing (checked)"),
    )


def _query(query: QueryTrial, predicted: Sequence[float], numbers: Numbers) -> RenderableType:
    table = plain_table(
        (query.query, "fixed"), ("before", "right"), ("after", "right"), ("after/before", "right")
    )
    for label, before, after, ratio in _lines(query.before, query.after, query.ratio, numbers):
        table.add_row(label, before, after, ratio)
    if len(predicted) == 1:
        table.add_row("cost that was predicted", "", numbers.figure(predicted[0]), "")
    verdict = Text.assemble(
        "verdict: ", (query.verdict.value, _STYLES.get(query.verdict, "bold")), f" ({query.reason})"
    )
    used = "the changed plan uses it" if query.uses_change else "the index is not used"
    return Group(
        table,
        Text(_interval(query.ratio, len(query.before.runs_ms), numbers)),
        Text(
            f"results: {query.result_note}"
            if query.same_result
            else f"RESULTS DIFFER: {query.result_note}"
        ),
        Text(f"change: {used}; plans {query.before.plan} before, {query.after.plan} after"),
        verdict,
    )


def _lines(
    before: Side, after: Side, ratio: RatioInterval | None, numbers: Numbers
) -> Iterator[tuple[str, str, str, str]]:
    yield (
        "median time (measured)",
        numbers.ms(before.median_ms),
        numbers.ms(after.median_ms),
        "by pairs, below" if ratio else "–",
    )
    yield "first run, apart (measured)", numbers.ms(before.cold_ms), numbers.ms(after.cold_ms), ""
    if before.cost is not None and after.cost is not None:
        yield (
            "cost (server's estimate)",
            numbers.figure(before.cost),
            numbers.figure(after.cost),
            _part(after.cost, before.cost, numbers),
        )
    if before.pages is not None and after.pages is not None:
        yield (
            "pages touched (measured)",
            numbers.whole(before.pages.touched),
            numbers.whole(after.pages.touched),
            _part(after.pages.touched, before.pages.touched, numbers),
        )
        old, new = (p.temp_read + p.temp_written for p in (before.pages, after.pages))
        if old or new:
            words = numbers.whole(old), numbers.whole(new), _part(new, old, numbers)
            yield ("temporary pages (measured)", *words)
    yield "rows", numbers.whole(before.rows), numbers.whole(after.rows), ""


def _part(after: float, before: float, numbers: Numbers) -> str:
    return numbers.figure(after / before) if before else "–"


def _interval(ratio: RatioInterval | None, pairs: int, numbers: Numbers) -> str:
    if ratio is None:
        return f"{pairs} pairs of runs: too few for an interval"
    low, high = numbers.figure(ratio.low), numbers.figure(ratio.high)
    words = ""
    if ratio.high < 1:
        words = f": {numbers.times(1 / ratio.high)} to {numbers.times(1 / ratio.low)} faster"
    elif ratio.low > 1:
        words = f": {numbers.times(ratio.low)} to {numbers.times(ratio.high)} slower"
    return (
        f"{ratio.pairs} alternating pairs: after/before {numbers.figure(ratio.estimate)}, "
        f"between {low} and {high} ({numbers.percent(ratio.confidence, 1)} interval){words}"
    )


def settled_view(entry: SettlementEntry) -> RenderableType:
    """A decision, and the files it wrote."""
    return labelled(
        ("settled", f"{entry.trial}: {entry.decision} ({entry.reason})"),
        ("written", "\n".join(entry.files)),
    )


def history_view(events: Sequence[EventEntry]) -> RenderableType:
    """The ledger in order of time."""
    table = plain_table(("when (UTC)", "fixed"), ("entry", "fixed"), ("what", "left"))
    for event in events:
        table.add_row(event.at.replace("T", " ")[:19], event.subject, Text(event.words))
    return table
