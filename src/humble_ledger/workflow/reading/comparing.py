"""Comparing two plans: by their ids, of two queries, or a query's newest two."""

from __future__ import annotations

from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.plans.comparison import compare
from humble_ledger.core.results.plans import PlanComparison
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.workload.usage import Usage
from humble_ledger.core.workload.windows import RunChoice
from humble_ledger.errors import WrongUsage
from humble_ledger.ledger.ids import Kind, parse_id
from humble_ledger.workflow.reading.plans import explain_now, keep_plan, newest_plan, plan_of
from humble_ledger.workflow.reading.ranking import captures_between
from humble_ledger.workflow.reading.subjects import Subject, subject_of
from humble_ledger.workflow.workspace import Workspace

ELSEWHERE = "elsewhere"  # the origin of a plan from another target than the query's own


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


def compare_captures(workspace: Workspace, query: str, first: str, last: str) -> PlanComparison:
    """A query as two captures found it: its plan and its runs in each.

    A plan is of a capture when it was kept after that one began and before the next one did.

    Raises:
        WrongUsage: not a query, not captures, or no plan was kept with one of them.
    """
    parsed = parse_id(query)
    if parsed is None or parsed[0] is not Kind.QUERY:
        raise WrongUsage(f'"{query}" is not the id of a query.', "They look like q3.")
    workspace.ledger.require(query)
    low, high = captures_between(first, last)
    before, after = (_plan_of_capture(workspace, query, f"k{n}") for n in (low, high))
    usages = tuple(_usage_of_capture(workspace, query, n) for n in (low, high))
    found = compare(before.plan, after.plan)
    return PlanComparison(before, after, found, (usages[0], usages[1]))


def compare_targets(workspace: Workspace, what: str, other: str) -> PlanComparison:
    """The plan of one statement on the target and on another, both asked for now.

    Raises:
        WrongUsage: what is given has no statement that could be sent.
    """
    subject = subject_of(workspace, what)
    statement, query = subject.statement, subject.query
    if subject.plan is not None:
        statement = Statement(subject.plan.statement, subject.plan.parameters)
        query = subject.plan.query
    if statement is None:
        raise WrongUsage(f"{what} has no statement to send.", "Give a query, a plan's id or SQL.")
    workspace.require_ledger()
    here = explain_now(workspace, Subject(query, statement), measure=False)
    with Workspace(workspace.configuration, other, workspace.limits) as there:
        found = there.session.explain(statement)
    away = keep_plan(
        workspace, statement, found.plan, found.document, query=here.query, origin=ELSEWHERE
    )
    return PlanComparison(here, away, compare(here.plan, away.plan))


def _plan_of_capture(workspace: Workspace, query: str, capture: str) -> PlanEntry:
    captures = workspace.ledger.captures.all()
    workspace.ledger.require(capture)
    begun = next(c.at for c in captures if c.id == capture)
    later = [c.at for c in captures if c.at > begun]
    end = min(later, default="9")
    ledger = workspace.ledger
    plans = [p for origin in ("log", "read") for p in ledger.plans.of_query(query, origin)]
    found = next((p for p in plans if begun <= p.at < end), None)
    if found is None:
        raise WrongUsage(
            f"No plan of {query} was kept between {capture} and the capture after it.",
            f"The server's plan logger brings plans into the log; or run  humble plan {query}  "
            "after each capture.",
        )
    return found


def _usage_of_capture(workspace: Workspace, query: str, number: int) -> Usage | None:
    choice = RunChoice(captures=(number, number))
    rows = workspace.ledger.queries.all(choice=choice)
    return next((row.usage for row in rows if row.id == query and row.seen), None)


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
