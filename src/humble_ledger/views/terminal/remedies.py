"""Remedies, one line for each, and one with everything known of it."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType

from humble_ledger.core.entries import RemedyEntry
from humble_ledger.core.messages import Told
from humble_ledger.core.remedies.model import Prediction, Remedy, RemedyType
from humble_ledger.core.remedies.prediction.formula import WAY as FORMULA
from humble_ledger.core.results.proposals import Proposals, RefusedRewriting, Together
from humble_ledger.views.escaping import escaped
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import labelled, plain_table
from humble_ledger.views.terminal.text import Text
from humble_ledger.views.wording import in_words
from humble_ledger.views.wording.parts import listed

MOST_CAUTIONS = 3
STOPPED_EARLY = "Stopped early: this is what was predicted so far; there may be better."


def remedies_view(proposals: Proposals, numbers: Numbers, top: int | None = None) -> RenderableType:
    """One line for each remedy and query: gain, size, reason; the best first."""
    entries = proposals.remedies
    left_out = [Text(f"{what} is left out: {reason}") for what, reason in proposals.left_out]
    if proposals.stopped_early:
        left_out.insert(0, Text(STOPPED_EARLY))
    left_out += [refused_line(each) for each in proposals.refused]
    if not entries:
        none = Text("Nothing is predicted to make any of these clearly cheaper.")
        return Group(none, *left_out)
    shown = entries[:top] if top is not None else entries
    parts: list[RenderableType] = [_table(shown, numbers), Text("")]
    together = together_among(proposals, shown)
    if together:
        parts += [*(_together_line(each, numbers) for each in together), Text("")]
    if left_out:
        parts += [*left_out, Text("")]
    if len(shown) < len(entries):
        parts.append(Text(f"{len(entries) - len(shown)} more; leave --top out to see them."))
    elif proposals.alternatives:
        parts += [Text("Each of these could stand in place of one above:"), Text("")]
        parts += [_table(proposals.alternatives, numbers), Text("")]
    elif proposals.more_alternatives:
        parts.append(
            Text(
                f"{proposals.more_alternatives} other indexes could stand in place of some of "
                "these; naming a query shows those for it."
            )
        )
    note = _note(shown, proposals, together)
    parts.append(Text(note, style="bright_black"))
    parts += caution_lines(proposals.cautions, numbers)
    return Group(*parts)


def together_among(proposals: Proposals, shown: Sequence[RemedyEntry]) -> list[Together]:
    """What several indexes bring at once, of those whose indexes are all shown."""
    ids = {each.id for each in shown}
    return [each for each in proposals.together if ids.issuperset(each.remedies)]


def _together_line(found: Together, numbers: Numbers) -> Text:
    gain = found.cost_before / max(found.cost_predicted, 0.01)
    return Text(
        f"{found.query} with {listed(found.remedies, ' and ')} at once: cost "
        f"{numbers.figure(found.cost_predicted)}, {numbers.times(gain)} cheaper (predicted)."
    )


def refused_line(refused: RefusedRewriting) -> Text:
    """A rewriting that is not proposed, and the rows that show why."""
    return Text(
        f"{refused.query}: {refused.summary} is not proposed, as the result differs: "
        f"{refused.example}."
    )


def _table(shown: Sequence[RemedyEntry], numbers: Numbers) -> RenderableType:
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
                Text(in_words(entry.remedy.reason, numbers) if first else ""),
            )
    return table


def _rows(remedy: Remedy, numbers: Numbers) -> list[tuple[str, str, str, str]]:
    """(query, cost now, predicted, cheaper) of each query it is for; at least one row."""
    rows = [
        (
            p.query,
            numbers.figure(p.cost_before),
            numbers.figure(p.cost_predicted),
            _times(p, numbers),
        )
        for p in _best_first(remedy)
    ]
    told = {row[0] for row in rows}
    rows += [(query, "", "unknown", "") for query in remedy.queries if query not in told]
    return rows or [("", "", "", "")]


def _times(prediction: Prediction, numbers: Numbers) -> str:
    """How many times cheaper or dearer; "together" where only with other indexes."""
    if prediction.harms:
        return f"{numbers.times(1.0 / prediction.gain)} dearer"
    return numbers.times(prediction.gain) + (" together" if prediction.beside else "")


def _together(prediction: Prediction) -> str:
    """With what a prediction holds, behind it; "" for one of the remedy alone."""
    if not prediction.beside:
        return ""
    return f", together with an index on {' and '.join(d.words for d in prediction.beside)}"


def _size(remedy: Remedy, numbers: Numbers) -> str:
    size = remedy.size_bytes_predicted
    if size is None:
        return ""
    return f"−{numbers.size(-size)}" if size < 0 else numbers.size(size)


def caution_lines(cautions: Sequence[Told], numbers: Numbers) -> list[Text]:
    """What may make all predictions worse; of many only the first."""
    lines = [
        Text(f"Caution: {in_words(each, numbers).rstrip('.')}.")
        for each in cautions[:MOST_CAUTIONS]
    ]
    more = len(cautions) - MOST_CAUTIONS
    return [*lines, Text(f"and {more} more.")] if more > 0 else lines


def predicted_by(entries: Sequence[RemedyEntry], declined: str) -> str:
    """By whom the costs of indexes are predicted, in a sentence."""
    with_index = [e.remedy for e in entries if e.remedy.index_wanted is not None]
    found = [p.way for remedy in with_index for p in remedy.predictions]
    formula = sum(way == FORMULA for way in found)
    if not found or formula == len(found):
        why = f" ({declined.rstrip('.')})" if declined else ""
        return f"those with indexes are predicted by formula{why}"
    some = f", {formula} of {len(found)} by formula" if formula else ""
    return f"those with indexes are the planner's own, asked on a copy of the target{some}"


def _note(shown: Sequence[RemedyEntry], proposals: Proposals, together: Sequence[Together]) -> str:
    index = any(e.remedy.index_wanted is not None for e in shown)
    first = next((e for e in shown if e.remedy.index_wanted or _is_other_text(e)), None)
    declined = proposals.declined
    by = f"; {predicted_by(shown, declined)}" if index or declined else ""
    note = f"Costs are estimates{by}. What statistics bring only a trial tells. Nothing was built."
    if first is None:
        return note
    query = _first_query(first, proposals.queries)
    beside = first.remedy.beside_for(query)
    needed = [first, *(e for e in shown if e.remedy.index in beside)]
    named = " ".join(f"--remedy {each.id}" for each in needed)
    how = "Try one" if len(needed) == 1 else "Try what serves only together"
    at_once = next((t for t in together if t.query == query and first.id in t.remedies), None)
    if at_once is not None and len(needed) == 1:
        named = " ".join(f"--remedy {each}" for each in at_once.remedies)
        how = "Try them at once"
    return f"{note} {how}:  humble trial {query} {named}"


def _is_other_text(entry: RemedyEntry) -> bool:
    """Whether it is the same statement in other words, and nobody need be asked first."""
    return entry.remedy.rewrite is not None and not entry.remedy.question


def remedies_sql(entries: Sequence[RemedyEntry]) -> str:
    """A script of all remedies for review: forwards, and how to go back as comments."""
    parts = [
        '-- For review. Each change with what it is for; the statements behind "back:" undo it.',
    ]
    online = next((e.remedy.online for e in entries if e.remedy.online), "")
    how = f"; with {online} they do not" if online else ""
    parts.append(f"-- CREATE and DROP INDEX make writers wait while they run{how}.")
    for entry in entries:
        remedy = entry.remedy
        gains = "; ".join(
            f"{p.query}: cost {p.cost_before:,.0f} to {p.cost_predicted:,.0f} "
            f"(predicted by {p.way}{_flat(_together(p))})"
            for p in _best_first(remedy)
        )
        parts += ["", f"-- {entry.id} {_flat(remedy.summary)}: {_flat(in_words(remedy.reason))}"]
        parts += [f"-- {gains}"] if gains else []
        if any(escaped(text) != text for text in (*remedy.apply, *remedy.revert)):
            parts.append(f"-- not written out, as control characters are in it; see {entry.id}")
            continue
        parts += list(remedy.apply)
        back = (line for statement in remedy.revert for line in statement.splitlines())
        parts += [f"-- back: {line}" for line in back]
    return "\n".join(parts)


def _flat(words: str) -> str:
    """On one line, as a comment must be."""
    return " ".join(words.split())


def _best_first(remedy: Remedy) -> list[Prediction]:
    return sorted(remedy.predictions, key=lambda p: p.cost_predicted - p.cost_before)


def _first_query(entry: RemedyEntry, asked: Sequence[str]) -> str:
    """The query that a remedy helps most, of those that were asked about where it helps one."""
    known = entry.remedy.predictions
    of_these = [p for p in known if p.query in asked]
    found = max(of_these or known, key=lambda p: p.gain, default=None)
    return found.query if found is not None else "WHAT"


def remedy_view(entry: RemedyEntry, numbers: Numbers) -> RenderableType:
    """One remedy with everything known of it."""
    remedy = entry.remedy
    predictions = "\n".join(
        f"{p.query}: cost {numbers.figure(p.cost_before)} → {numbers.figure(p.cost_predicted)} "
        f"(predicted by {p.way}{_together(p)}): {p.route} in place of {p.step}"
        + (f"; but {p.caution}" if p.caution else "")
        for p in _best_first(remedy)
    )
    return labelled(
        ("remedy", f"{entry.id} {remedy.summary}, {entry.status}"),
        ("because of", in_words(remedy.reason, numbers)),
        ("forwards", "\n".join(remedy.apply)),
        ("beside", _beside(entry)),
        ("its values", _values(remedy)),
        ("backwards", "\n".join(remedy.revert) or "nothing to undo"),
        ("held against", remedy.checked.words if remedy.checked is not None else ""),
        ("prediction", predictions or "unknown: only a trial tells"),
        ("size", _size_words(remedy, numbers)),
        ("building", _building(remedy, numbers)),
        ("write overhead", _write_overhead(remedy, numbers)),
        ("against", ", ".join(remedy.cures)),
    )


def _beside(entry: RemedyEntry) -> str:
    """The index that a rewritten statement takes, and who builds it."""
    text = entry.remedy.rewrite
    if text is None or text.beside is None:
        return ""
    words = text.beside.words
    return f"an index on {words}: a trial of {entry.id} builds it, too, and settling keeps both"


def _values(remedy: Remedy) -> str:
    if remedy.rewrite is None or not remedy.rewrite.values_from:
        return ""
    kept = "the application keeps them from the page before; a trial asks for them by"
    return f"{kept}\n{remedy.rewrite.values_from}"


def _building(remedy: Remedy, numbers: Numbers) -> str:
    """How long, and who waits meanwhile."""
    if remedy.index is None:
        return ""
    time = "an unknown time"
    if remedy.build_ms is not None:
        low, high = remedy.build_ms
        by = "from builds measured here" if remedy.build_measured else "none was measured here yet"
        time = f"{numbers.ms(low)} to {numbers.ms(high)} (predicted, {by})"
    table = remedy.index.table
    waiting = f"{time}. As printed, readers of {table} pass and writers wait until it is built"
    if not remedy.online:
        return waiting
    return (
        f'{waiting}; with {remedy.online}, which "settle" writes, nobody waits, '
        f"{remedy.online_costs}"
    )


def _write_overhead(remedy: Remedy, numbers: Numbers) -> str:
    """What writers pay, by the table's counters."""
    if remedy.type not in (RemedyType.INDEX, RemedyType.REMOVAL):
        return ""
    cost = remedy.write_overhead
    if not cost.counted:
        return "not known: this server counts no rows written; a trial measures what writers pay"
    seen = (
        f"{numbers.whole(cost.inserted_rows)} rows inserted and "
        f"{numbers.whole(cost.updated_rows)} updated since the counters began"
    )
    if not cost.entries_now:
        return f"{seen}: what writers pay is not known yet"
    entries = numbers.whole(abs(round(cost.entries_added)))
    less = remedy.type is RemedyType.REMOVAL
    told = f"{seen}; that wrote {numbers.whole(round(cost.entries_now))} rows and index entries, "
    told += f"{entries} {'fewer' if less else 'more'} with it ({numbers.percent(cost.grows_by)})"
    if cost.ends_in_page:
        told += (
            f"; the updates of {', '.join(cost.ends_in_page)} would no longer stay in their "
            "page, so that every index of the table is written"
        )
    elif cost.in_page_share and not less and not cost.updates_seen:
        share = numbers.percent(cost.in_page_share)
        told += f"; {share} of the updates stay in their page, unless they set one of its columns"
    return f"{told} (computed)"


def _size_words(remedy: Remedy, numbers: Numbers) -> str:
    size = remedy.size_bytes_predicted
    if size is None:
        return ""
    if size < 0:
        return f"gives back {numbers.size(-size)} (measured)"
    return f"{numbers.size(size)} (predicted)"
