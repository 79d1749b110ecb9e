"""A plan as a tree of steps with their own figures."""

from __future__ import annotations

from collections.abc import Iterator

from rich.console import Group, RenderableType

from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.estimates.accuracy import row_error
from humble_ledger.core.plans.arithmetic import StepMetrics, accounts
from humble_ledger.core.plans.model import Node, Plan
from humble_ledger.core.plans.remarks import remarks
from humble_ledger.core.results.plans import PlanSurroundings
from humble_ledger.core.statements.kinds import shorten
from humble_ledger.core.statements.tokens import has_placeholders
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.advice import advice_words
from humble_ledger.views.terminal.parts import bar, labelled
from humble_ledger.views.terminal.plan_focus import matching_steps, plan_focus
from humble_ledger.views.terminal.plan_forms import PlanForm, PlanShape
from humble_ledger.views.terminal.plan_story import plan_story
from humble_ledger.views.terminal.plan_table import plan_table
from humble_ledger.views.terminal.plan_tables import plan_tables
from humble_ledger.views.terminal.steps import Cell, StepRow, StepTable
from humble_ledger.views.terminal.text import Text

BAR_WIDTH = 8
HOT = 0.25
MOST_REMARKS = 12
FEWEST_MARKED = 4  # in a smaller plan everyone sees it


USUAL = PlanForm()


def plan_view(
    entry: PlanEntry,
    numbers: Numbers,
    form: PlanForm = USUAL,
    around: PlanSurroundings | None = None,
) -> RenderableType:
    """The plan with its heading, its steps in the form asked for, and what they add up to."""
    plan, heading = entry.plan, _heading(entry, numbers)
    if form.focus is not None:
        return Group(heading, Text(""), plan_focus(plan, form.focus, numbers))
    if form.find:
        return Group(heading, Text(""), _found(plan, form.find, numbers))
    if around is not None:
        return Group(heading, Text(""), plan_tables(around, numbers))
    if form.shape is PlanShape.STEPS:
        return Group(heading, Text(""), plan_story(plan, numbers))
    figures = accounts(plan)
    if form.shape is PlanShape.TABLE:
        table = plan_table(plan, numbers, form.columns)
        return Group(heading, Text(""), table, *_foot(entry, figures, numbers))
    steps = StepTable(_rows(plan, figures, numbers))
    return Group(heading, Text(""), steps, *_foot(entry, figures, numbers))


def _found(plan: Plan, wanted: str, numbers: Numbers) -> RenderableType:
    """The steps that mention a text, one line each with its figures."""
    found = {node.no for node in matching_steps(plan, wanted)}
    if not found:
        return Text(f'No step of this plan mentions "{wanted}".')
    rows = [row for row in _rows(plan, accounts(plan), numbers) if int(row.number) in found]
    said = f'{len(found)} of {len(list(plan.nodes()))} steps mention "{wanted}".'
    more = "  All of one:  --focus NUMBER"
    return Group(StepTable(rows), Text(""), Text(said + more, style="bright_black"))


def _heading(entry: PlanEntry, numbers: Numbers) -> RenderableType:
    plan = entry.plan
    server = f"{plan.engine} {plan.engine_version}".strip()
    head = f"{entry.id} of {entry.query}" if entry.query else entry.id
    times = ""
    if plan.measured:
        planning, execution = numbers.ms(plan.planning_ms), numbers.ms(plan.execution_ms)
        times = f"planning {planning}, execution {execution} (measured)"
    return labelled(
        ("plan", f"{head}, {'measured' if plan.measured else 'estimated'} on {server}"),
        ("read by", entry.read_by),
        ("document", _of_several(entry)),
        ("statement", shorten(entry.statement, 400)),
        ("values", _values(entry)),
        ("calls", _planner_calls(entry)),
        ("cost", _cost(plan, numbers)),
        ("time", times),
        ("settings", ", ".join(f"{k} = {v}" for k, v in plan.engine_settings.items())),
        ("server says", "\n".join(plan.remarks[:MOST_REMARKS])),
        ("suggests", "\n".join(advice_words(each, numbers) for each in plan.advice)),
    )


def _of_several(entry: PlanEntry) -> str:
    """Which of several plans of a document this is, and how to see another."""
    return f"{entry.place}; another one:  FILE#1" if entry.place else ""


def _cost(plan: Plan, numbers: Numbers) -> str:
    """What the whole is estimated to cost, and in whose units."""
    if plan.cost_total is None:
        return ""
    whose = (
        f"by Humble Ledger, as {plan.engine} tells no costs"
        if plan.own_estimates
        else "the server's units"
    )
    return f"{numbers.figure(plan.cost_total)} (estimated, {whose})"


def _planner_calls(entry: PlanEntry) -> str:
    if not entry.planner_calls:
        return ""
    named = ", ".join(entry.planner_calls)
    return f"the planner may call {named} for its estimates; what that does cannot be seen"


def _values(entry: PlanEntry) -> str:
    if not entry.parameters:
        if not has_placeholders(entry.statement):
            return ""
        return (
            "none: the plan for no value in particular (generic); --values common, typical or "
            "rare takes some from the statistics"
        )
    shown = ["NULL" if value is None else value for value in entry.parameters]
    if not entry.value_reasons:
        return ", ".join(shown)
    pairs = zip(shown, entry.value_reasons, strict=True)
    return "; ".join(f"${n} = {value}, {why}" for n, (value, why) in enumerate(pairs, 1))


def _rows(plan: Plan, figures: dict[int, StepMetrics], numbers: Numbers) -> list[StepRow]:
    hottest = max(a.self_share for a in figures.values())
    # Of several that handle as many, the one that the rows come from.
    fullest = max(figures, key=lambda no: (_handled(figures[no]), no)) if plan.steps_measured else 0
    marked = len(figures) >= FEWEST_MARKED
    rows = []
    for node, guide, below in _walk(plan.root, "", ""):
        account = figures[node.no]
        hot = hottest > 0 and account.self_share >= max(HOT, hottest * 0.999)
        marks = []
        if marked and hottest > 0 and account.self_share >= hottest * 0.999:
            marks.append(f"most {'time' if plan.steps_timed else 'cost'} of all steps")
        if marked and node.no == fullest:
            marks.append(f"most rows of all steps: {numbers.whole(_handled(account))}")
        rows.append(
            StepRow(
                number=str(node.no),
                guide=guide,
                name=_named(node),
                hot=hot,
                below=below,
                cells=tuple(_figures(plan, node, account, numbers)),
                notes=(*marks, *_notes(node, account, numbers)),
            )
        )
    return rows


def _handled(account: StepMetrics) -> float:
    """The rows that a step put out or threw away, over all loops."""
    return (account.rows or 0.0) + (account.rows_discarded or 0.0)


def _figures(plan: Plan, node: Node, account: StepMetrics, numbers: Numbers) -> Iterator[Cell]:
    error = row_error(node)
    off = error is not None and error.far_off
    known = node.cost is not None or plan.steps_timed
    share = numbers.percent(account.self_share) if known else "–"
    yield Cell("rows expected", numbers.rows(node.rows_expected), bold=off)
    if plan.steps_measured and node.never_ran:
        yield from (Cell("seen", "never ran"), Cell("loops", "0"), Cell("self ms", "–"))
    elif plan.steps_measured:
        yield Cell("seen", numbers.rows(node.rows_seen), bold=off)
        yield Cell("loops", numbers.whole(node.loops))
        yield Cell("self ms", numbers.figure(account.self_ms))
    yield Cell("share", share)
    yield Cell("", bar(account.self_share, BAR_WIDTH).ljust(BAR_WIDTH), spare=True)
    own = numbers.figure(account.self_cost) if node.cost else "–"
    yield Cell("self cost", own, spare=plan.steps_measured)
    if plan.steps_measured:
        pages = account.self_pages
        yield Cell("pages", numbers.whole(pages.touched) if pages else "–")
    else:
        yield Cell("total cost", numbers.figure(node.cost.total) if node.cost else "–")


def _walk(node: Node, guide: str, below: str) -> Iterator[tuple[Node, str, str]]:
    """Each step with the guide before its name, and the guide for lines under it."""
    trunk = below + ("│ " if node.children else "  ")
    yield node, guide, trunk
    for place, child in enumerate(node.children):
        last = place == len(node.children) - 1
        yield from _walk(child, below + ("└ " if last else "├ "), below + ("  " if last else "│ "))


def _named(node: Node) -> str:
    prefix = f"{node.subplan_name}: " if node.subplan_name else ""
    return prefix + node.name


def _notes(node: Node, account: StepMetrics, numbers: Numbers) -> Iterator[str]:
    conditions = node.conditions
    for word, texts in (
        ("search", conditions.search),
        ("filter", conditions.filter),
        ("join", conditions.join),
        ("recheck", conditions.recheck),
        ("sorts by", (", ".join(node.sort_keys),) if node.sort_keys else ()),
        ("groups by", (", ".join(node.group_keys),) if node.group_keys else ()),
    ):
        for text in texts:
            yield f"{word}: {text}"
    if account.rows_discarded:
        yield f"discards {numbers.whole(account.rows_discarded)} rows in all"
    memory = node.memory
    if memory is not None and memory.spilled_bytes:
        how = f" ({memory.method})" if memory.method else ""
        much = f"{numbers.size(memory.spilled_bytes)} " if memory.spilled_bytes > 1 else ""
        yield f"spills {much}to temporary files{how}"
    elif memory is not None and memory.used_bytes:
        yield f"takes {numbers.size(memory.used_bytes)} of memory"
    if node.processes is not None and node.processes.planned:
        launched = node.processes.launched
        plural = "s" if node.processes.planned > 1 else ""
        yield f"{node.processes.planned} parallel worker{plural} planned" + (
            f", {launched} launched" if launched is not None else ""
        )
    yield from remarks(node, numbers.whole, account.total_ms is not None)


def _work(plan: Plan, numbers: Numbers) -> Iterator[RenderableType]:
    """What was counted of a run whose steps nobody times."""
    seen = plan.root.rows_seen
    rows = "" if seen is None else numbers.count(round(seen), "rows") + " returned"
    counted = [
        f"{name.replace('_', ' ')} {numbers.whole(value)}"
        for name, value in plan.root.details.items()
        if isinstance(value, int)
    ]
    told = "; ".join(filter(None, (rows, ", ".join(counted))))
    if told:
        yield Text(f"Measured of the whole: {told}.")
    yield Text(
        f"{plan.engine} times no single steps of it: shares are of the estimated cost.",
        style="bright_black",
    )


def _foot(
    entry: PlanEntry, figures: dict[int, StepMetrics], numbers: Numbers
) -> Iterator[RenderableType]:
    plan = entry.plan
    if not plan.measured or plan.execution_ms is None:
        return
    own = sum(a.self_ms or 0.0 for a in figures.values())
    yield Text("")
    if not plan.steps_measured:
        yield from _work(plan, numbers)
        return
    for trigger in plan.triggers:
        took = f", {numbers.ms(trigger.time_ms)} (measured)" if trigger.time_ms is not None else ""
        yield Text(f"Trigger {trigger.name}: {numbers.whole(trigger.calls)} calls{took}.")
    if plan.compile_ms:
        yield Text(f"Compiling expressions took {numbers.ms(plan.compile_ms)} (measured).")
    errors = [row_error(node) for node in plan.nodes()]
    off = any(error is not None and error.far_off for error in errors)
    timed = any(node.elapsed is not None for node in plan.nodes())
    yield Text(
        (
            f"Self times add up to {numbers.ms(own)} of {numbers.ms(plan.execution_ms)} execution; "
            "rows are per loop, times and pages over all loops."
            if timed
            else "Rows are per loop; how long each step took is not told."
        )
        + (" Rows in bold: expected and seen differ at least tenfold." if off else ""),
        style="bright_black",
    )
