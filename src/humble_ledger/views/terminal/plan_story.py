"""A plan told in plain sentences, in the order of the work."""

from __future__ import annotations

from rich.console import Group, RenderableType

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.plans.narration import Sentence, narrate
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import Hanging
from humble_ledger.views.terminal.text import Text

HOT = 0.25


def plan_story(plan: Plan, numbers: Numbers) -> RenderableType:
    """Each step in a sentence with the rows expected and seen; what takes most is bold."""
    told = narrate(plan, numbers.whole)
    width = len(str(len(told)))
    hottest = max(each.share for each in told)
    parts: list[RenderableType] = []
    for each in told:
        lead = f"{each.number:>{width}}. "
        style = "bold" if each.share >= max(HOT, hottest * 0.999) else ""
        indent = " " * len(lead)
        parts.append(Hanging(indent, each.words, style, first=lead))
        parts.append(Text(indent + _figures(each, plan, numbers), style="bright_black"))
    parts += [Text(""), Text(_end(plan, told, numbers))]
    return Group(*parts)


def _figures(each: Sentence, plan: Plan, numbers: Numbers) -> str:
    expected = "unknown rows"
    if each.expected is not None:
        expected = f"{numbers.rows(each.expected)} {'row' if each.expected == 1 else 'rows'}"
    if not plan.steps_measured:
        return f"expected {expected}; {numbers.percent(each.share)} of the estimated cost"
    seen = "never ran" if each.seen is None else f"came {numbers.rows(each.seen)}"
    own = f"{numbers.ms(each.self_ms)} of its own, {numbers.percent(each.share)}"
    return f"expected {expected}, {seen}; {own}"


def _end(plan: Plan, told: list[Sentence], numbers: Numbers) -> str:
    most = max(told, key=lambda each: each.share)
    what = f"({most.number}), step {most.step} of the plan"
    if plan.steps_measured:
        return (
            f"In all {numbers.ms(plan.execution_ms)} (measured); {what}, takes "
            f"{numbers.percent(most.share)} of it."
        )
    return (
        f"Nothing was run. The server estimates a cost of {numbers.figure(plan.cost_total)} in "
        f"all; {what}, makes {numbers.percent(most.share)} of it."
    )
