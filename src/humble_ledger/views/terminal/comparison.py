"""Two plans side by side."""

from __future__ import annotations

from rich.console import Group, RenderableType

from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.plans.comparison import Change, Comparison, Figures, StepPair
from humble_ledger.core.results.plans import PlanComparison
from humble_ledger.core.statements.kinds import shorten
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import labelled, plain_table
from humble_ledger.views.terminal.text import Text

_STYLES = {Change.REPLACED: "bold", Change.GONE: "red", Change.NEW: "green", Change.MOVED: "bold"}


def comparison_view(found: PlanComparison, numbers: Numbers) -> RenderableType:
    """Whole figures with their ratios, then step against step."""
    comparison = found.comparison
    parts: list[RenderableType] = [
        labelled(
            ("before", _named(found.before)),
            ("after", _named(found.after)),
            ("statement", shorten(found.after.statement or found.before.statement, 300)),
        ),
        Text(""),
        _whole(found, numbers),
        Text(""),
        _steps(found, numbers),
        Text(""),
        Text(_verdict(comparison) + _other_units(found), style="bright_black"),
    ]
    return Group(*parts)


def _other_units(found: PlanComparison) -> str:
    """What must be said when the plans are of two kinds of server."""
    if found.comparison.cost.comparable:
        return ""
    engines = f"{found.before.plan.engine} and {found.after.plan.engine}"
    return f" Costs of {engines} are in units of their own, which do not compare."


def _named(entry: PlanEntry) -> str:
    plan = entry.plan
    read = f", read {entry.at.replace('T', ' ')[:19]}" if entry.at else ""
    server = f"{plan.engine} {plan.engine_version}".strip()
    query = f" of {entry.query}" if entry.query else ""
    return f"{entry.id}{query}, {'measured' if plan.measured else 'estimated'} on {server}{read}"


def _whole(found: PlanComparison, numbers: Numbers) -> RenderableType:
    comparison = found.comparison
    table = plain_table(
        ("", "fixed"), ("before", "right"), ("after", "right"), ("after/before", "right")
    )
    rows: tuple[tuple[str, Figures], ...] = (
        ("cost (estimated)", comparison.cost),
        ("execution ms (measured)", comparison.time_ms),
        ("pages touched (measured)", comparison.pages),
        ("rows", comparison.rows),
        ("calls in the capture (measured)", found.runs("calls")),
        ("mean ms in the capture (measured)", found.runs("mean_ms")),
        ("95 % of them within, ms (measured)", found.runs("p95_ms")),
    )
    for name, figures in rows:
        if figures.before is None and figures.after is None:
            continue
        ratio = "–" if figures.ratio is None else numbers.figure(figures.ratio)
        shown = (
            "unknown" if f is None else numbers.figure(f) for f in (figures.before, figures.after)
        )
        table.add_row(name, *shown, ratio)
    return table


def _steps(found: PlanComparison, numbers: Numbers) -> RenderableType:
    measured = found.before.plan.measured and found.after.plan.measured
    unit = "self ms" if measured else "self cost"
    table = plain_table(
        ("", "fixed"), ("before", "left"), (unit, "right"), ("rows", "right"),
        ("after", "left"), (unit, "right"), ("rows", "right"),
    )  # fmt: skip
    for pair in found.comparison.pairs:
        style = _STYLES.get(pair.change, "")
        cells = [*_side(pair, True, measured, numbers), *_side(pair, False, measured, numbers)]
        table.add_row(Text(pair.change.value, style=style), *(Text(c, style=style) for c in cells))
    return table


def _side(pair: StepPair, before: bool, measured: bool, numbers: Numbers) -> tuple[str, str, str]:
    node = pair.before if before else pair.after
    account = pair.before_account if before else pair.after_account
    if node is None or account is None:
        return "–", "", ""
    own = account.self_ms if measured else account.self_cost
    rows = account.rows if measured else node.rows_expected
    return f"{node.no} {node.name}", numbers.figure(own), numbers.rows(rows)


def _verdict(comparison: Comparison) -> str:
    if comparison.same_shape:
        return "The same steps in the same places; only figures differ."
    counts = {
        change: sum(1 for pair in comparison.pairs if pair.change is change) for change in Change
    }
    said = ", ".join(f"{count} {change.value}" for change, count in counts.items() if count)
    return f"Steps: {said}. Steps pair by the tables they work on."
