"""What might help a saved plan."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.plans.open_document import AdviceRow, advice_of
from humble_ledger.core.results.ideas import PlanIdeas
from humble_ledger.views.wording import in_words


class IdeaRow(Struct, frozen=True):
    """An index against a symptom of a step; ``widens`` names one that is there already."""

    table: str
    keys: list[str]
    included: list[str]
    widens: str
    step: int
    symptom: str
    reason: str
    statement: str


class IdeasDocument(Struct, frozen=True):
    """Our ideas, and what the server suggests; nothing of either is predicted."""

    what: str
    engine: str
    ideas: list[IdeaRow]
    suggested_by_server: list[AdviceRow]
    kind: Literal["ideas"] = "ideas"
    version: Literal[1] = 1


def ideas_document(found: PlanIdeas) -> IdeasDocument:
    """What might help a saved plan."""
    rows = [
        IdeaRow(
            str(idea.table),
            list(idea.design.key_columns) if idea.design else [],
            list(idea.design.included if idea.design else idea.added),
            idea.index,
            idea.step,
            idea.symptom,
            in_words(idea.reason),
            statement,
        )
        for idea, statement in zip(found.ideas, found.statements, strict=True)
    ]
    return IdeasDocument(found.what, found.plan.plan.engine, rows, advice_of(found.plan.plan))
