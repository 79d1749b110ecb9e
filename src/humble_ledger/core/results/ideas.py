"""What might help a plan whose server nobody can ask, beside what that server suggests itself."""

from __future__ import annotations

from dataclasses import dataclass

from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.plans.model import IndexAdvice
from humble_ledger.core.remedies.candidates.unknown_tables import Idea


@dataclass(frozen=True, slots=True)
class PlanIdeas:
    """Our own ideas with the statement of each, and the server's own advice, told apart.

    ``agreed`` are places in ``advice`` that ask for the same keys as an idea of ours.
    """

    what: str
    plan: PlanEntry
    ideas: tuple[Idea, ...]
    statements: tuple[str, ...]
    advice: tuple[IndexAdvice, ...]
    agreed: frozenset[int] = frozenset()
