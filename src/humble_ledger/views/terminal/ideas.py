"""What might help a saved plan: our ideas, and apart from them what its server suggests."""

from __future__ import annotations

from rich.console import Group, RenderableType

from humble_ledger.core.remedies.candidates.unknown_tables import Idea
from humble_ledger.core.results.ideas import PlanIdeas
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.advice import advice_words
from humble_ledger.views.terminal.parts import Hanging
from humble_ledger.views.terminal.text import Text
from humble_ledger.views.wording import in_words

UNPREDICTED = (
    "Nothing is predicted: there is no server to ask what an index would bring, nor whether one "
    "like it is there. Try it on a test database, save the plan again, and hold both against each "
    "other:  humble compare BEFORE AFTER"
)


def ideas_view(found: PlanIdeas, numbers: Numbers) -> RenderableType:
    """Each idea with its statement, then the server's own advice."""
    parts: list[RenderableType] = []
    if found.ideas:
        parts.append(Text("From the plan's own conditions:", style="bold"))
        for idea, statement in zip(found.ideas, found.statements, strict=True):
            parts += _idea(idea, statement, numbers)
    else:
        parts.append(Text("No condition of this plan calls for an index that it does not use."))
    if found.advice:
        parts += [Text(""), Text(f"Suggested by {found.plan.plan.engine} itself:", style="bold")]
        for place, each in enumerate(found.advice):
            same = "; the same keys as above" if place in found.agreed else ""
            parts.append(Hanging("  ", advice_words(each, numbers) + same))
            if each.statement:
                parts.append(Hanging("      ", each.statement))
    parts += [Text(""), Hanging("", _unpredicted(found))]
    return Group(*parts)


def _unpredicted(found: PlanIdeas) -> str:
    """Why nothing is predicted, and how to find out."""
    if found.plan.query is None:
        return UNPREDICTED
    return (
        f"Nothing is predicted: the cost formulas of {found.plan.plan.engine} are not known here. "
        f"To try one:  humble trial {found.plan.query} --index 'TABLE (COLUMNS)'"
    )


def _idea(idea: Idea, statement: str, numbers: Numbers) -> list[RenderableType]:
    reason = in_words(idea.reason, numbers)
    if idea.design is not None:
        return [
            Hanging("  ", f"index on {idea.design.words}, for step {idea.step}: {reason}"),
            Hanging("      ", statement),
        ]
    return [
        Hanging(
            "  ",
            f"{idea.index} on {idea.table} with {', '.join(idea.added)} in it, for step "
            f"{idea.step}: {reason}",
        )
    ]
