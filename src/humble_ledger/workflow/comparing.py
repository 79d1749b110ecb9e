"""Comparing two plans: by their ids, of two queries, or a query's newest two."""

from __future__ import annotations

from humble_ledger.core.entries import PlanComparison, PlanEntry
from humble_ledger.core.plans.comparison import compare
from humble_ledger.errors import WrongUsage
from humble_ledger.ledger.ids import Kind, parse_id
from humble_ledger.workflow.reading import newest_plan, plan_of
from humble_ledger.workflow.workspace import Workspace


def compare_plans(workspace: Workspace, one: str, other: str = "") -> PlanComparison:
    """Hold two plans against each other.

    Each is a plan's id, a query's id (its newest plan, measured if there is one), a saved
    plan, or a statement, which is explained now. A trial's id alone compares its plans before
    and after; a query's id alone its two newest plans.

    Raises:
        WrongUsage: only one plan is known where two are needed.
    """
    if not other:
        before, after = _two_of(workspace, one)
    else:
        before, after = _plan(workspace, one), _plan(workspace, other)
    return PlanComparison(before, after, compare(before.plan, after.plan))


def _plan(workspace: Workspace, what: str) -> PlanEntry:
    parsed = parse_id(what)
    if parsed is not None and parsed[0] is Kind.QUERY:
        workspace.ledger.require(what)
        return newest_plan(workspace, what) or plan_of(workspace, what)
    return plan_of(workspace, what)


def _two_of(workspace: Workspace, what: str) -> tuple[PlanEntry, PlanEntry]:
    parsed = parse_id(what)
    ledger = workspace.ledger
    if parsed is not None and parsed[0] is Kind.TRIAL:
        trial = ledger.trials.get(what).trial
        if trial is not None and trial.queries:
            first = trial.queries[0]
            return ledger.plans.get(first.before.plan), ledger.plans.get(first.after.plan)
    if parsed is not None and parsed[0] is Kind.QUERY:
        ledger.require(what)
        plans = [*ledger.plans.of_query(what), *ledger.plans.of_query(what, "log")]
        if len(plans) > 1:
            return plans[1], plans[0]
    raise WrongUsage(f"{what} alone does not name two plans.", "Give two:  humble compare p1 p5")
