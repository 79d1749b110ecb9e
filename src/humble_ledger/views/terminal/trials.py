"""Trials, settlements, history."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.console import Group, RenderableType

from humble_ledger.core.entries import RemedyEntry, SettlementEntry, TrialEntry
from humble_ledger.core.results.applications import Application, AppliedQuery
from humble_ledger.core.results.history import History
from humble_ledger.core.trials.model import QueryTrial, Side, Trial, Verdict
from humble_ledger.core.trials.ratio import RatioInterval
from humble_ledger.core.trials.ways import EXPLAINED, Way
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import labelled, plain_table
from humble_ledger.views.terminal.text import Text
from humble_ledger.views.terminal.trial_extras import beside_view, predicted_view
from humble_ledger.views.wording import in_words

MOST_IN_FULL = 2
_PAIRED = dict.fromkeys(
    (Way.STAGES.value, Way.ONLINE.value, Way.GATHERED.value), "pairs in three stages"
)
_STYLES = {
    Verdict.FASTER: "green",
    Verdict.LIGHTER: "green",
    Verdict.SLOWER: "red",
    Verdict.HEAVIER: "red",
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
    if trial.not_tried:
        parts += [Text(""), predicted_view(trial, numbers)]
    if len(trial.queries) > MOST_IN_FULL:
        parts += [Text(""), _summary(trial, numbers)]
    for query in _in_full(trial):
        parts += [Text(""), _query(query, _predicted(trial, remedies, query), trial.way, numbers)]
    parts += beside_view(trial, numbers)
    for query_id, why in trial.failed:
        parts.append(Text(f"\n{query_id} could not be run: {why}"))
    if alone := _left_alone(trial, remedies):
        parts.append(Text(f"\n{alone}"))
    for settled in settlements:
        files = f": {', '.join(settled.files)}" if settled.files else ""
        parts.append(
            Text(f"\nsettled {settled.at[:10]}: {settled.decision} ({settled.reason}){files}")
        )
    if not settlements and not trial.not_tried:
        parts += [
            Text(""),
            Text(f"Decide:  humble settle {entry.id} keep|drop", style="bright_black"),
        ]
    return Group(*parts)


def _predicted(trial: Trial, remedies: Sequence[RemedyEntry], query: QueryTrial) -> float | None:
    """The cost that was predicted of all that was changed; None when nobody did."""
    costs = [each.cost_predicted for each in trial.predicted if each.query == query.query]
    if len(remedies) == 1 and costs in ([], [None]):
        told = remedies[0].remedy.predictions
        costs = [each.cost_predicted for each in told if each.query == query.query]
    return costs[0] if costs else None


def _in_full(trial: Trial) -> Sequence[QueryTrial]:
    """Every query of a small trial; of a large one those that got worse or differ."""
    if len(trial.queries) <= MOST_IN_FULL:
        return trial.queries
    bad = (Verdict.SLOWER, Verdict.HEAVIER)
    return [q for q in trial.queries if q.verdict in bad or q.same_result is False]


def _summary(trial: Trial, numbers: Numbers) -> RenderableType:
    """One line for each query, and who gained and who lost."""
    table = plain_table(
        ("query", "fixed"), ("before", "right"), ("after", "right"), ("after/before", "right"),
        ("between", "right"), ("verdict", "left"),
    )  # fmt: skip
    for query in trial.queries:
        ratio = query.ratio
        table.add_row(
            query.query,
            _time(query.before, numbers),
            _time(query.after, numbers),
            numbers.figure(ratio.estimate) if ratio else "–",
            f"{numbers.figure(ratio.low)}–{numbers.figure(ratio.high)}" if ratio else "–",
            Text(query.verdict.value, style=_STYLES.get(query.verdict, "")),
        )
    told = []
    for verdict in (Verdict.SLOWER, Verdict.HEAVIER, Verdict.FASTER, Verdict.LIGHTER):
        names = [q.query for q in trial.queries if q.verdict is verdict]
        told += [f"{verdict.value}: {', '.join(names)}"] if names else []
    words = "; ".join(told) or "no query is clearly faster or slower"
    return Group(table, Text(""), Text(f"{words} (times measured)"))


BESIDE = "; their server processes shared a processor, another one for each pair"


def _heading(
    entry: TrialEntry, trial: Trial, remedies: Sequence[RemedyEntry], numbers: Numbers
) -> RenderableType:
    tried = "; ".join(f"{r.id}, {r.remedy.summary}" for r in remedies)
    return labelled(
        ("trial", f"{entry.id}: {tried}" + (", stopped early" if trial.stopped_early else "")),
        ("way", EXPLAINED[Way(trial.way)] + (BESIDE if trial.one_processor else "")),
        (
            "held against",
            "; ".join(r.remedy.checked.words for r in remedies if r.remedy.checked is not None),
        ),
        ("why so", trial.why_so or trial.not_tried),
        (
            "built" if trial.size_bytes else "made",
            f"in {numbers.ms(trial.build_ms)}"
            + (f", {numbers.size(trial.size_bytes)}" if trial.size_bytes else "")
            + " (measured)"
            if trial.build_ms
            else "",
        ),
        (
            "left behind",
            "" if trial.not_tried else ", ".join(trial.left_behind) or "nothing (checked)",
        ),
        ("stays", "; ".join(trial.stays)),
        (
            "at the same time",
            f"{', '.join(trial.disturbed_by)} measured on this database, too: "
            "times may be disturbed"
            if trial.disturbed_by
            else "",
        ),
    )


def _query(
    query: QueryTrial, predicted: float | None, way: str, numbers: Numbers
) -> RenderableType:
    table = plain_table(
        (query.query, "fixed"), ("before", "right"), ("after", "right"), ("after/before", "right")
    )
    for label, before, after, ratio in _lines(query.before, query.after, query.ratio, numbers):
        table.add_row(label, before, after, ratio)
    if predicted is not None:
        table.add_row("cost that was predicted", "", numbers.figure(predicted), "")
    verdict = Text.assemble(
        "verdict: ",
        (query.verdict.value, _STYLES.get(query.verdict, "bold")),
        f" ({in_words(query.reason, numbers)})",
    )
    note = in_words(query.result_note, numbers)
    plan = "the old plan" if way == "hidden-index" else "the changed plan"
    used = f"{plan} uses it" if query.uses_change else f"{plan} does not use it"
    return Group(
        table,
        *([Text(f"run with {query.values}")] if query.others else []),
        Text(_interval(query.ratio, len(query.before.runs_ms), way, numbers)),
        Text(f"RESULTS DIFFER: {note}" if query.same_result is False else f"results: {note}"),
        Text(f"change: {used}; plans {query.before.plan} before, {query.after.plan} after"),
        *(_other_values(other, way, numbers) for other in query.others),
        verdict,
    )


def _other_values(query: QueryTrial, way: str, numbers: Numbers) -> RenderableType:
    """A line like "with common values: 12 ms → 0.3 ms; 6 alternating pairs: …; faster"."""
    return Text.assemble(
        f"with {query.values}: {_time(query.before, numbers)} → {_time(query.after, numbers)}; "
        f"{_interval(query.ratio, len(query.before.runs_ms), way, numbers)}; ",
        (query.verdict.value, _STYLES.get(query.verdict, "bold")),
        f"; RESULTS DIFFER: {in_words(query.result_note, numbers)}"
        if query.same_result is False
        else "",
    )


def _lines(
    before: Side, after: Side, ratio: RatioInterval | None, numbers: Numbers
) -> Iterator[tuple[str, str, str, str]]:
    yield (
        "median time (measured)",
        _time(before, numbers),
        _time(after, numbers),
        "by pairs, below" if ratio else "–",
    )
    if not (before.timed_out or after.timed_out):
        cold = numbers.ms(before.cold_ms), numbers.ms(after.cold_ms)
        yield ("first run, apart (measured)", *cold, "")
    if before.cost is not None and after.cost is not None:
        yield (
            "cost (estimated)",
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
        yield from _of_tables(before, after, numbers)
        old, new = (p.temp_read + p.temp_written for p in (before.pages, after.pages))
        if old or new:
            words = numbers.whole(old), numbers.whole(new), _part(new, old, numbers)
            yield ("temporary pages (measured)", *words)
    if before.planning_ms is not None and after.planning_ms is not None:
        times = numbers.ms(before.planning_ms), numbers.ms(after.planning_ms)
        yield ("planning, once (measured)", *times, "")
    if _shared(before) or _shared(after):
        works = [numbers.ms(s.work_ms) if s.work_ms is not None else "–" for s in (before, after)]
        yield "time of all processes (measured)", works[0], works[1], ""
    rows = ["unknown" if s.timed_out else numbers.whole(s.rows) for s in (before, after)]
    yield "rows", rows[0], rows[1], ""


def _of_tables(before: Side, after: Side, numbers: Numbers) -> Iterator[tuple[str, str, str, str]]:
    """The pages of each table, where there are several."""
    old, new = dict(before.table_pages), dict(after.table_pages)
    names = list(dict.fromkeys([*old, *new]))
    if len(names) < 2:
        return
    for name in names:
        was, is_ = old.get(name, 0), new.get(name, 0)
        yield f"  of {name}", numbers.whole(was), numbers.whole(is_), _part(is_, was, numbers)


def _shared(side: Side) -> bool:
    """Whether several processes ran it, so that their time together says more."""
    return side.work_ms is not None and side.work_ms > 1.2 * side.median_ms


def _time(side: Side, numbers: Numbers) -> str:
    return (
        f"more than {numbers.ms(side.median_ms)}" if side.timed_out else numbers.ms(side.median_ms)
    )


def _part(after: float, before: float, numbers: Numbers) -> str:
    return numbers.figure(after / before) if before else "–"


def _interval(ratio: RatioInterval | None, pairs: int, way: str, numbers: Numbers) -> str:
    if ratio is None and pairs == 0:
        return "no pairs of runs"
    if ratio is None:
        return f"{pairs} pairs of runs: too few for an interval"
    low, high = numbers.figure(ratio.low), numbers.figure(ratio.high)
    words = ""
    if ratio.high < 1:
        words = f": {numbers.times(1 / ratio.high)} to {numbers.times(1 / ratio.low)} faster"
    elif ratio.low > 1:
        words = f": {numbers.times(ratio.low)} to {numbers.times(ratio.high)} slower"
    how = _PAIRED.get(way, "alternating pairs")
    return (
        f"{ratio.pairs} {how}: after/before {numbers.figure(ratio.estimate)}, between {low} and "
        f"{high} ({numbers.percent(ratio.confidence, 1)} interval){words}"
    )


def _left_alone(trial: Trial, remedies: Sequence[RemedyEntry]) -> str:
    """That an index was tried without those it serves a query only with; "" when none was."""
    tried = {each.remedy.index for each in remedies}
    missing = [
        (each.id, query.query, design.words)
        for each in remedies
        for query in trial.queries
        for design in each.remedy.beside_for(query.query)
        if design not in tried
    ]
    if not missing:
        return ""
    id_, query_id, words = missing[0]
    return (
        f"{id_} serves {query_id} only beside an index on {words}, which was not tried with it: "
        "name both with --remedy"
    )


def settled_view(
    entry: SettlementEntry, applied: Application | None, numbers: Numbers
) -> RenderableType:
    """A decision, the files it wrote, and what was made of it on a target."""
    lines = [
        ("settled", f"{entry.trial}: {entry.decision} ({entry.reason})"),
        ("written", "\n".join(entry.files)),
    ]
    if applied is not None:
        made = "\n".join(f"{text}; in {numbers.ms(took)}" for text, took in applied.statements)
        lines += [("made on", applied.target), ("saved", applied.saved_as), ("statements", made)]
        lines += [("now", "\n".join(_applied(q, numbers) for q in applied.queries))]
    return labelled(*lines)


def _applied(query: AppliedQuery, numbers: Numbers) -> str:
    """As in "q1: cost 22,930 → 610 (estimated), the plan uses it; gone: selective-full-scan"."""
    used = {True: ", the plan uses it", False: ", the plan does NOT use it", None: ""}[query.uses]
    before, now = numbers.figure(query.cost_before), numbers.figure(query.cost_now)
    told = f"{query.query}: cost {before} → {now} (estimated){used}"
    told += f"; gone: {', '.join(query.gone)}" if query.gone else ""
    return told + (f"; still there: {', '.join(query.left)}" if query.left else "")


def history_view(found: History, numbers: Numbers) -> RenderableType:
    """The ledger in order of time."""
    events = found.events
    table = plain_table(("when (UTC)", "fixed"), ("entry", "fixed"), ("what", "left"))
    for event in events:
        table.add_row(event.at.replace("T", " ")[:19], event.subject, Text(event.words))
    if len(events) == found.count:
        return table
    shown, count = numbers.whole(len(events)), numbers.count(found.count, "lines")
    said = f"The newest {shown} of {count}; more with --last N, everything with --all."
    return Group(table, Text(""), Text(said, style="bright_black"))
