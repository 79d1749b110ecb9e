"""Index candidates for a saved plan: from its own predicates, as there is no server to ask."""

from __future__ import annotations

from humble_ledger.core.dialect import STANDARD
from humble_ledger.core.plans.model import IndexAdvice
from humble_ledger.core.remedies.candidates.model import IndexAbilities
from humble_ledger.core.remedies.candidates.unknown_tables import Idea, ideas
from humble_ledger.core.remedies.naming import index_name
from humble_ledger.core.results.ideas import PlanIdeas
from humble_ledger.core.symptoms.in_plans.registry import find_symptoms
from humble_ledger.engines.registry import plans_of_any
from humble_ledger.workflow.diagnosing.plans import case_of
from humble_ledger.workflow.reading.saved import SavedDocument
from humble_ledger.workflow.workspace import Workspace


def ideas_for(workspace: Workspace, what: str, saved: SavedDocument) -> PlanIdeas:
    """What might help the plan that is meant in a document; nothing is predicted or kept."""
    entry = saved.entry
    case, _ = case_of(workspace, entry)
    dialect = getattr(plans_of_any(entry.plan.engine), "dialect", STANDARD)
    abilities = IndexAbilities(methods=dialect.methods, includes=dialect.includes)
    found = ideas(entry.plan, find_symptoms(case), abilities)
    statements = [
        each.design.create_sql(index_name(each.design), dialect) + ";" if each.design else ""
        for each in found
    ]
    advice = entry.plan.advice
    agreed = frozenset(n for n, each in enumerate(advice) if any(_same(each, i) for i in found))
    return PlanIdeas(what, entry, tuple(found), tuple(statements), advice, agreed)


def _same(advice: IndexAdvice, idea: Idea) -> bool:
    """Whether both begin with the same columns, in whatever order those of equality stand."""
    if idea.design is None or advice.relation != idea.table.name:
        return False
    ours, theirs = idea.design.key_columns, (*advice.equal, *advice.ranges)
    return set(ours) == set(theirs)
