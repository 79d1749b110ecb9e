"""What if: each query's cost now and under a supposition, and the plan it would have."""

from __future__ import annotations

from rich.console import Group, RenderableType

from humble_ledger.core.results.suppositions import SupposedQuery, Supposition
from humble_ledger.core.routes.exploring import said
from humble_ledger.core.statements.kinds import shorten
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import labelled, plain_table
from humble_ledger.views.terminal.text import Text
from humble_ledger.views.wording import in_words

_SAME = 0.001  # of the cost: less is no change
_MOST_NOTES = 3


def supposition_view(found: Supposition, numbers: Numbers) -> RenderableType:
    """What is supposed, and what it does to the queries; those it leaves alone are counted."""
    parts: list[RenderableType] = [_supposed(found, numbers), Text("")]
    if len(found.queries) == 1:
        parts += _one(found.queries[0], numbers)
    else:
        parts += _several(found, numbers)
    for query, reason in found.left_out:
        parts.append(Text(f"{query} could not be planned: {reason}"))
    parts += [Text(""), Text(_note(found, numbers), style="bright_black")]
    return Group(*parts)


def _supposed(found: Supposition, numbers: Numbers) -> RenderableType:
    rows = [
        ("index", f"{each.definition}, {numbers.size(each.size_bytes)} (predicted)")
        for each in found.indexes
    ]
    rows += [("without", name) for name in found.without]
    rows += [("setting", f"{name} = {value}") for name, value in found.settings]
    rows += [("statistics", f"{each} together") for each in found.statistics]
    rows += [("rows", f"{table}: {numbers.figure(times)}× as many") for table, times in found.rows]
    return labelled(*(rows or [("supposed", "another text of the statement")]))


def _one(each: SupposedQuery, numbers: Numbers) -> list[RenderableType]:
    table = plain_table(("", "fixed"), ("cost", "right"), ("rows", "right"), ("plan", "left"))
    for name, plan, cost in (
        ("now", each.before, each.cost_before),
        ("supposed", each.after, each.cost_after),
    ):
        table.add_row(name, numbers.figure(cost), numbers.rows(plan.root.rows_expected), said(plan))
    verdict = f"{each.query}: {_change(each, numbers)}"
    if each.uses:
        verdict += f"; it reads {', '.join(each.uses)}"
    parts: list[RenderableType] = [
        labelled(("statement", shorten(each.statement, 300))), Text(""), table, Text(""),
        Text(f"{verdict}."),
    ]  # fmt: skip
    if each.caution:
        parts.append(Text(f"Caution: {in_words(each.caution, numbers)}."))
    return parts


def _several(found: Supposition, numbers: Numbers) -> list[RenderableType]:
    changed = [
        q for q in found.queries if abs(q.cost_after - q.cost_before) > _SAME * q.cost_before
    ]
    if not changed:
        return [Text(f"None of {len(found.queries)} queries would be planned otherwise.")]
    cautioned = any(each.caution for each in changed)
    table = plain_table(
        ("query", "fixed"), ("cost now", "right"), ("supposed", "right"), ("change", "left"),
        ("reads", "left"), *([("caution", "left")] if cautioned else []),
    )  # fmt: skip
    for each in sorted(changed, key=lambda q: q.cost_after - q.cost_before):
        table.add_row(
            each.query, numbers.figure(each.cost_before), numbers.figure(each.cost_after),
            _change(each, numbers), Text(", ".join(each.uses)),
            *([Text(in_words(each.caution, numbers))] if cautioned else []),
        )  # fmt: skip
    before = sum(q.cost_before for q in found.queries)
    after = sum(q.cost_after for q in found.queries)
    others = len(found.queries) - len(changed)
    same = f"; {others} others stay as they are" if others else ""
    return [
        table,
        Text(""),
        Text(f"All together: {numbers.figure(before)} to {numbers.figure(after)}{same}."),
    ]


def _change(each: SupposedQuery, numbers: Numbers) -> str:
    before, after = max(each.cost_before, 0.01), max(each.cost_after, 0.01)
    if abs(after - before) <= _SAME * before:
        return "no change"
    if after < before:
        return f"{numbers.times(before / after)} cheaper"
    return f"{numbers.times(after / before)} dearer"


def _note(found: Supposition, numbers: Numbers) -> str:
    note = (
        "Costs and rows are estimates of the planner, on a copy of the target: "
        f"{numbers.count(found.asked, 'plans')} asked. Nothing was built on the target."
    )
    if found.statistics:
        note += (
            " Statistics change what the planner expects, not what the work takes: a higher cost "
            "may be the truer one."
        )
    if found.notes:
        shown = "; ".join(found.notes[:_MOST_NOTES])
        more = len(found.notes) - _MOST_NOTES
        note += f" About the copy: {shown}{f'; and {more} more' if more > 0 else ''}."
    return note
