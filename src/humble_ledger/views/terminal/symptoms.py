"""Symptoms: those of each plan under its query, those of the workload and of the schema."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from rich.console import Group, RenderableType
from rich.padding import Padding

from humble_ledger.core.entries import PlanEntry, SymptomEntry
from humble_ledger.core.estimates.chain import Chain
from humble_ledger.core.results.diagnoses import Diagnoses, Diagnosis
from humble_ledger.core.statements.plainly import plainly
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import Hanging, labelled, plain_table
from humble_ledger.views.terminal.text import Text
from humble_ledger.views.wording import in_words

WORTH_A_LINE = 0.01  # of the captured time
MOST_NAMED = 6


def diagnoses_view(
    found: Diagnoses, numbers: Numbers, everything: bool, verbose: bool
) -> RenderableType:
    """All that was found, the most wasteful first; what matters little only when asked for."""
    parts: list[RenderableType] = []
    left_out: list[SymptomEntry] = []
    for each in found.plans:
        shown = [e for e in each.symptoms if everything or _worth_a_line(found, each, e)]
        left_out += [entry for entry in each.symptoms if entry not in shown]
        if shown:
            parts.append(_heading(each, found, numbers))
            parts += [_symptom(entry, numbers) for entry in shown]
            parts.append(Text(""))
    parts += _about_all("The captured queries together", found.workload, numbers)
    parts += _about_all("The schema", found.schema, numbers)
    parts += _closing(found, left_out, numbers)
    if verbose:
        parts.append(_probes(found.plans, numbers))
    while parts and isinstance(parts[-1], Text) and not parts[-1].plain:
        parts.pop()
    return Group(*parts) if parts else Text("There is no captured query to diagnose.")


def _worth_a_line(found: Diagnoses, each: Diagnosis, entry: SymptomEntry) -> bool:
    """Alone, a plan shows everything; among others, what wastes a hundredth of the time."""
    if not found.captured_ms:
        return True
    if entry.symptom.harmless:
        return False
    if not each.captured_ms:
        return True  # it was never seen to run: what it is of the whole is unknown, not small
    wasted = each.wasted_ms(entry)
    unknown = entry.symptom.cost_ms is None and not entry.symptom.cost_share
    return unknown or wasted >= WORTH_A_LINE * found.captured_ms


def _about_all(
    title: str, entries: Sequence[SymptomEntry], numbers: Numbers
) -> list[RenderableType]:
    if not entries:
        return []
    return [Text(title, style="bold"), *(_symptom(e, numbers) for e in entries), Text("")]


def _closing(
    found: Diagnoses, left_out: Sequence[SymptomEntry], numbers: Numbers
) -> list[RenderableType]:
    """What was left out, what is fine, and what could not be judged."""
    lines: list[RenderableType] = []
    right = [entry for entry in left_out if entry.symptom.harmless]
    lines += [
        Hanging("", f"Fine in {entry.query}: {in_words(entry.symptom.summary, numbers)}.")
        for entry in right
    ]
    small = len(left_out) - len(right)
    if small:
        lines.append(Text(f"{small} more below 1 % of the captured time; --all shows them."))
    healthy = [each.name for each in found.plans if not each.symptoms]
    if healthy:
        lines.append(Text(f"No symptom found in {', '.join(healthy)}."))
    for what, why in found.not_judged:
        lines.append(Hanging("", f"Not judged: {what}. {why}"))
    unknown: dict[str, list[str]] = {}
    for each in found.plans:
        if each.unknown:
            unknown.setdefault(each.unknown, []).append(each.name)
    for why, names in unknown.items():
        told = ", ".join(names) if len(names) <= MOST_NAMED else f"{len(names)} of these plans"
        lines.append(Hanging("", f"{told}: {why}."))
    return lines


def _probes(plans: Iterable[Diagnosis], numbers: Numbers) -> RenderableType:
    """What asking the planner took."""
    asked = [each for each in plans if each.probes]
    if not asked:
        return Text("The planner was not asked anything.", style="bright_black")
    told = ", ".join(f"{each.name} {each.probes} in {numbers.ms(each.probes_ms)}" for each in asked)
    count = sum(each.probes for each in asked)
    took = numbers.ms(sum(each.probes_ms for each in asked))
    return Hanging(
        "",
        f"Asked of planner and catalogue: {count} questions in {took} (measured; nothing was "
        f"run): {told}.",
    )


def _heading(each: Diagnosis, found: Diagnoses, numbers: Numbers) -> RenderableType:
    plan = each.plan
    figures = plan_figures(plan, numbers)
    if found.captured_ms and each.captured_ms:
        figures += f", {numbers.percent(each.captured_ms / found.captured_ms)} of all captured time"
    name = f"{plan.query}  " if plan.query else ""
    statement = " ".join(plan.statement.split())
    id_ = each.name if not plan.query else plan.id
    line = Text.assemble((name, "bold"), (f"{id_}, {figures}   ", "bright_black"), statement)
    line.no_wrap, line.overflow = True, "ellipsis"
    if not each.sent_by:
        return line
    return Group(line, Text(f"  sent by {each.sent_by}", "bright_black"))


def plan_figures(plan: PlanEntry, numbers: Numbers) -> str:
    """What a plan took, or what the server estimates."""
    if plan.plan.measured and plan.plan.execution_ms is not None:
        return f"{numbers.ms(plan.plan.execution_ms)} measured"
    if plan.plan.measured:
        return "measured"
    return f"cost {numbers.figure(plan.plan.cost_total)} estimated, not measured"


def _symptom(entry: SymptomEntry, numbers: Numbers) -> RenderableType:
    symptom = entry.symptom
    cost = _cost(entry, numbers)
    lines: list[RenderableType] = [
        Text.assemble(f"{entry.id:<4} ", (symptom.name, "bold"), f", {cost}" if cost else ""),
        Hanging(" " * 5, f"{_place(entry)}{in_words(symptom.summary, numbers)}"),
        Hanging(
            " " * 5, f"cause: {symptom.cause.name} ({in_words(symptom.cause.detail, numbers)})"
        ),
    ]
    if entry.remedies:
        lines.append(Hanging(" " * 5, f"might help: {', '.join(entry.remedies)}"))
    return Padding(Group(*lines), (0, 0, 0, 2))


def _cost(entry: SymptomEntry, numbers: Numbers) -> str:
    """What it wastes at most, and of what; "" where that cannot be a time."""
    symptom = entry.symptom
    if symptom.harmless:
        return "fine"
    if entry.plan is None and entry.capture is None:
        return ""
    if symptom.cost_ms is not None:
        base = ""
        if entry.plan is None:
            base = " over the captured runs"
        elif symptom.cost_share is not None:
            base = f", {numbers.percent(symptom.cost_share)} of this plan's time"
        return f"costs up to {numbers.ms(symptom.cost_ms)}{base}"
    if symptom.cost_share:
        return f"costs up to {numbers.percent(symptom.cost_share)} of this plan's estimated cost"
    return "" if entry.plan is None else "cost not known"


def _place(entry: SymptomEntry) -> str:
    if entry.plan is not None:
        return f"step {entry.symptom.node}, {entry.symptom.step}: "
    return f"in the runs of {entry.capture}: " if entry.capture and entry.query else ""


def symptom_view(entry: SymptomEntry, numbers: Numbers) -> RenderableType:
    """One symptom with all its evidence."""
    symptom = entry.symptom
    evidence = "\n".join(
        f"{key} = {_plain(value, numbers)}" for key, value in symptom.evidence.items()
    )
    of = entry.query or symptom.subject or entry.capture or ""
    view = labelled(
        ("symptom", f"{entry.id} {symptom.name}, in {of}" + _by_plan(entry)),
        ("seen", _place(entry).removesuffix(": ")),
        ("finding", in_words(symptom.summary, numbers)),
        ("cause", f"{symptom.cause.name}: {in_words(symptom.cause.detail, numbers)}"),
        ("cost", "" if symptom.harmless else _cost(entry, numbers).removeprefix("costs ")),
        ("evidence", evidence),
        ("might help", ", ".join(entry.remedies)),
    )
    if symptom.chain is None:
        return view
    return Group(view, Text(""), chain_table(symptom.chain, numbers))


def _by_plan(entry: SymptomEntry) -> str:
    return f" by plan {entry.plan}" if entry.plan else ""


def chain_table(chain: Chain, numbers: Numbers) -> RenderableType:
    """How an estimate came about, condition by condition."""
    table = plain_table(
        (f"of the rows of {chain.table}", "left"), ("rows", "right"), ("share", "right"),
        ("", "left"),
    )  # fmt: skip

    def row(name: str, rows: float | None, kind: str) -> None:
        share = None if rows is None else rows / chain.table_rows
        told = "unknown" if share is None else numbers.share(share)
        count = "unknown" if rows is None else numbers.figure(rows)
        table.add_row(Text(name), count, told, kind)

    row("all of them", chain.table_rows, "estimated")
    for link in chain.links:
        row(plainly(link.condition), link.rows, "estimated, alone")
    if len(chain.links) > 1:
        row("these shares multiplied", chain.product * chain.table_rows, "computed")
    row("all conditions together", chain.together_rows, "estimated")
    if chain.seen_rows is not None:
        row("that came", chain.seen_rows, "measured")
    return table


def _plain(value: object, numbers: Numbers) -> str:
    if isinstance(value, bool) or value is None:
        return str(value)
    if not isinstance(value, int | float):
        return str(value)
    return numbers.whole(value) if value == round(value) else numbers.figure(value)
