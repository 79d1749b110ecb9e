"""A choice of indexes under a budget, with the reason for each line."""

from __future__ import annotations

from rich.console import Group, RenderableType

from humble_ledger.core.remedies.choice.model import KEPT_FREE, Budget, Choice
from humble_ledger.core.remedies.choice.weights import Weights
from humble_ledger.core.remedies.model import Remedy
from humble_ledger.core.results.proposals import ChosenIndexes
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import bar, plain_table
from humble_ledger.views.terminal.remedies import STOPPED_EARLY, caution_lines, predicted_by
from humble_ledger.views.terminal.text import Text
from humble_ledger.views.wording import in_words

MOST_LEFT_OUT = 8
BAR_WIDTH = 24


def choice_view(chosen: ChosenIndexes, numbers: Numbers) -> RenderableType:
    """The chosen indexes, what they do to each query, what was left out, and the curve."""
    choice = chosen.choice
    if not choice.picked:
        words = "No index within the budget is predicted to make any of these clearly cheaper."
        return Group(Text(words), *_unstudied(chosen))
    parts: list[RenderableType] = [_heading(chosen, numbers), Text("")]
    parts += [_picked(chosen, numbers), Text(""), _effects(chosen, numbers), Text("")]
    if choice.left_out:
        parts += [_left_out(chosen, numbers), Text("")]
    parts += [_curve(choice, chosen.budget, numbers), Text("")]
    for entry in chosen.rewrites:
        for p in entry.remedy.predictions:
            parts.append(
                Text(
                    f"{entry.id} {_without_index(entry.remedy, p.query)}: cost "
                    f"{numbers.figure(p.cost_before)} → {numbers.figure(p.cost_predicted)} "
                    "(estimated by the planner)."
                )
            )
    for entry in chosen.removals:
        size = numbers.size(-(entry.remedy.size_bytes_predicted or 0))
        parts.append(
            Text(
                f"{entry.id} {entry.remedy.summary}, {size}: "
                f"{in_words(entry.remedy.reason, numbers)}."
            )
        )
    parts += _unstudied(chosen)
    parts.append(_note(chosen, numbers))
    parts += caution_lines(chosen.cautions, numbers)
    return Group(*parts)


def _unstudied(chosen: ChosenIndexes) -> list[Text]:
    early = [Text(STOPPED_EARLY)] if chosen.stopped_early else []
    return early + [Text(f"{what} is left out: {reason}") for what, reason in chosen.left_out]


def _heading(chosen: ChosenIndexes, numbers: Numbers) -> Text:
    choice = chosen.choice
    size = sum(p.option.size_bytes for p in choice.picked)
    share = choice.saved / choice.weight if choice.weight else 0.0
    what = chosen.weights.whole
    count = len(choice.picked)
    return Text(
        f"{count} index{'es' if count > 1 else ''}, {numbers.size(size)} (predicted) of "
        f"{_budget(chosen.budget, numbers)}, should save {numbers.percent(share)} of {what}."
    )


def _budget(budget: Budget, numbers: Numbers) -> str:
    limits = []
    if budget.size_bytes is not None:
        limits.append(numbers.size(budget.size_bytes))
    if budget.indexes is not None:
        limits.append(f"at most {budget.indexes} indexes")
    if budget.extra_writes is not None:
        limits.append(f"at most {numbers.percent(budget.extra_writes)} more writing")
    return " and ".join(limits) or "any size"


def _picked(chosen: ChosenIndexes, numbers: Numbers) -> RenderableType:
    table = plain_table(
        ("id", "fixed"), ("chosen", "left"), ("size", "right"), (_adds("adds", chosen), "right"),
        ("writing", "right"), ("for", "left"), ("because of", "left"),
    )  # fmt: skip
    for each in chosen.choice.picked:
        entry = chosen.remedies[each.option.design]
        table.add_row(
            entry.id,
            Text(each.option.design.words),
            numbers.size(each.option.size_bytes),
            _weight(each.adds, chosen, numbers),
            f"+{numbers.percent(entry.remedy.write_overhead.grows_by)}",
            ", ".join(each.queries),
            Text(in_words(each.option.reason, numbers)),
        )
    return table


def _without_index(remedy: Remedy, query: str) -> str:
    """What a rewriting does for a query, or asks about it."""
    if remedy.question:
        return f"is {remedy.summary.rstrip('?')} ({query})? If so"
    return f"should help {query} without any index, {remedy.summary}"


def _adds(word: str, chosen: ChosenIndexes) -> str:
    return f"{word} ms" if chosen.weights is Weights.TIME else word


def _weight(value: float, chosen: ChosenIndexes, numbers: Numbers) -> str:
    """A weight: ms of captured time as such, else its share of all weight."""
    if chosen.weights is Weights.TIME:
        return numbers.figure(value)
    whole = chosen.choice.weight
    return numbers.percent(value / whole if whole else 0.0)


def _effects(chosen: ChosenIndexes, numbers: Numbers) -> RenderableType:
    weight = "captured ms" if chosen.weights is Weights.TIME else "weight"
    table = plain_table(
        ("query", "fixed"), (weight, "right"), ("cost now", "right"),
        ("predicted", "right"), ("cheaper", "right"), ("by", "left"),
    )  # fmt: skip
    same = []
    for each in chosen.choice.effects:
        if not each.designs and each.cost_after > 0.98 * each.cost_before:
            same.append(each.query)
            continue
        table.add_row(
            each.query,
            _weight(each.weight, chosen, numbers),
            numbers.figure(each.cost_before),
            numbers.figure(each.cost_after),
            numbers.times(each.cost_before / max(each.cost_after, 0.01)),
            ", ".join(chosen.remedies[d].id for d in each.designs) or "any one of several",
        )
    if not same:
        return table
    return Group(table, Text(f"None of them helps {', '.join(same)}.", style="bright_black"))


def _left_out(chosen: ChosenIndexes, numbers: Numbers) -> RenderableType:
    choice = chosen.choice
    table = plain_table(
        ("not chosen", "left"),
        ("size", "right"),
        (_adds("alone", chosen), "right"),
        ("why not", "left"),
    )
    for each in choice.left_out[:MOST_LEFT_OUT]:
        table.add_row(
            Text(each.option.design.words),
            numbers.size(each.option.size_bytes),
            _weight(each.alone, chosen, numbers),
            Text(_by_id(in_words(each.why, numbers), chosen)),
        )
    more = len(choice.left_out) - MOST_LEFT_OUT
    if more <= 0:
        return table
    return Group(table, Text(f"{more} more that save less; --json has them all."))


def _by_id(why: str, chosen: ChosenIndexes) -> str:
    """The reason with the ids of the chosen indexes, which are shorter than their words."""
    for design in sorted(chosen.remedies, key=lambda d: -len(d.words)):
        why = why.replace(design.words, chosen.remedies[design].id)
    return why


def _curve(choice: Choice, budget: Budget, numbers: Numbers) -> RenderableType:
    table = plain_table(
        ("size together", "right"), ("saves", "right"), ("", "fixed"), ("by adding", "left")
    )
    over = False
    for point in choice.curve:
        if budget.size_bytes is not None and point.size_bytes > budget.size_bytes and not over:
            over = True
            table.add_row("", "", "", Text("— the budget ends here —", style="bright_black"))
        share = point.saved / choice.weight if choice.weight else 0.0
        table.add_row(
            numbers.size(point.size_bytes),
            numbers.percent(share),
            bar(share, BAR_WIDTH),
            Text(point.added.words),
        )
    return table


def _note(chosen: ChosenIndexes, numbers: Numbers) -> RenderableType:
    choice = chosen.choice
    if chosen.stopped_early:
        found = "How near it comes to the best set is not known."
    elif choice.complete:
        found = "Every set of these indexes was compared."
    else:
        found = (
            "Found by search; it reaches at least "
            f"{numbers.percent(choice.at_least)} of what any set within the budget could, as long "
            "as no two indexes help each other."
        )
    pays = f"Writing grows by {numbers.percent(choice.extra_writes)} (computed from the counters)"
    if chosen.writers:
        pays += ": paid by " + ", ".join(dict.fromkeys(query for query, _ in chosen.writers))
    else:
        pays += "; no captured query changes these tables"
    by = predicted_by(tuple(chosen.remedies.values()), chosen.declined)
    least = (
        f" Indexes that add less than {numbers.percent(chosen.least_gain)} are left out."
        if chosen.least_gain
        else ""
    )
    if chosen.budget.size_bytes is not None:
        least += f" {numbers.percent(KEPT_FREE)} of the size are kept free, as sizes are predicted."
    follows = "time follows the cost" if chosen.weights is Weights.TIME else "costs are right"
    asked = (
        f" {numbers.count(chosen.plans_asked, 'plans')} were asked for, in "
        f"{numbers.ms(chosen.took_ms)} for all of it."
        if chosen.plans_asked
        else ""
    )
    return Text(
        f'{found}{least}\n{pays}. "adds" is what would be lost without that one index, if '
        f"{follows}.\nOf the costs {by}.{asked} Nothing was built.",
        style="bright_black",
    )
