"""Index candidates for a saved plan: from its own predicates, as there is no server to ask."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.core.costs.unknown import UnknownCosts
from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.plans.model import IndexAdvice
from humble_ledger.core.remedies.candidates.model import IndexAbilities
from humble_ledger.core.remedies.candidates.unknown_tables import Idea, ideas
from humble_ledger.core.remedies.naming import index_name
from humble_ledger.core.results.ideas import PlanIdeas
from humble_ledger.core.symptoms.in_plans.registry import find_symptoms
from humble_ledger.engines.registry import dialect_of
from humble_ledger.errors import WrongUsage
from humble_ledger.workflow.diagnosing.plans import case_of, plan_to_judge
from humble_ledger.workflow.reading.subjects import saved_subject, subject_of
from humble_ledger.workflow.workspace import Workspace


def ideas_for(workspace: Workspace, whats: Sequence[str]) -> PlanIdeas | None:
    """What might help a saved plan, or a plan of a server whose formulas nobody knows.

    None where predictions can be made: then they are. Nothing is predicted or kept here.

    Raises:
        WrongUsage: several statements were named, or none, on such a server.
    """
    saved = saved_subject(whats[0]) if len(whats) == 1 else None
    if saved is not None:
        return _ideas(workspace, whats[0], saved.entry)
    named_alone = workspace.has_target and isinstance(workspace.session.costs, UnknownCosts)
    if not named_alone:
        return None
    if len(whats) != 1:
        raise WrongUsage(
            f"The cost formulas of {workspace.session.server.engine} are not known here, so that "
            "nothing is predicted; ideas are given for one statement.",
            "Name one:  humble propose q1",
        )
    subject = subject_of(workspace, whats[0])
    entry = plan_to_judge(workspace, subject, measure=False)
    return _ideas(workspace, whats[0], entry)


def _ideas(workspace: Workspace, what: str, entry: PlanEntry) -> PlanIdeas:
    case, _ = case_of(workspace, entry)
    dialect = dialect_of(entry.plan.engine)
    abilities = IndexAbilities(methods=dialect.methods, includes=dialect.includes)
    found = ideas(entry.plan, find_symptoms(case), abilities, case.tables)
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
