"""Reading plans: from the target, from the ledger, or from a file."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.statements.masking import masked
from humble_ledger.engines.contract import ExplainOptions
from humble_ledger.engines.registry import plans_of_any
from humble_ledger.errors import WrongUsage
from humble_ledger.workflow.reading.parameters import with_values
from humble_ledger.workflow.reading.subjects import Subject, subject_of
from humble_ledger.workflow.workspace import Workspace


def plan_of(
    workspace: Workspace,
    what: str,
    *,
    measure: bool = False,
    allow_writes: bool = False,
    values: str = "",
) -> PlanEntry:
    """The plan of WHAT, kept in the ledger (a saved plan is only read).

    A query or statement is explained now, and run with ``measure``; with ``values`` (common,
    typical, rare) its parameters get values from the target's statistics.

    Raises:
        UnreadableInput: it has no plan, or the server rejects it.
        RefusedForSafety: measuring it would change data.
    """
    subject = subject_of(workspace, what)
    if subject.plan is not None:
        if measure:
            raise WrongUsage(
                f"{what} is a plan that was read before; it cannot be measured again.",
                f"Measure its query:  humble plan {subject.plan.query or 'SQL'} --measure",
            )
        return subject.plan
    if subject.saved is not None:
        return subject.saved.entry
    if values:
        assert subject.statement is not None
        workspace.require_ledger()
        statement, chosen = with_values(workspace, subject.statement, values)
        subject = replace(subject, statement=statement)
        entry = explain_now(workspace, subject, measure=measure, allow_writes=allow_writes)
        return replace(entry, value_reasons=tuple(each.why for each in chosen))
    return explain_now(workspace, subject, measure=measure, allow_writes=allow_writes)


def explain_now(
    workspace: Workspace, subject: Subject, *, measure: bool, allow_writes: bool = False
) -> PlanEntry:
    """Explain a statement on the target and keep its plan."""
    assert subject.statement is not None
    workspace.require_ledger()
    found = workspace.session.explain(
        subject.statement, ExplainOptions(measure=measure, allow_writes=allow_writes)
    )
    kept = keep_plan(workspace, subject.statement, found.plan, found.document, query=subject.query)
    calls = workspace.session.side_effects(subject.statement)
    return replace(kept, planner_calls=tuple(e.name for e in calls if e.planner_calls))


def keep_plan(
    workspace: Workspace,
    statement: Statement,
    plan: Plan,
    document: object,
    *,
    query: str | None,
    origin: str = "read",
    mask: bool = False,
) -> PlanEntry:
    """Keep a plan with its query, which is made when it is new; without literals if wished."""
    ledger = workspace.ledger
    query = query or ledger.queries.keep(statement.sql)
    if mask or workspace.configuration.mask:
        form = plans_of_any(plan.engine)
        statement, document = Statement(masked(statement.sql)), form.masked(document)
        plan = form.read(document, plan.engine_version)
    entry = ledger.plans.keep(statement, plan, document, query=query, origin=origin)
    ledger.queries.keep_tables(query, sorted(str(name) for name in table_names(plan)))
    return entry


def table_names(plan: Plan) -> Iterable[TableName]:
    """The tables a plan reads or writes."""
    return {TableName(schema, name) for schema, name in plan.relations()}


def newest_plan(workspace: Workspace, query: str) -> PlanEntry | None:
    """The newest measured plan of a query, else the newest estimated one."""
    plans = workspace.ledger.plans.of_query(query)
    return next((p for p in plans if p.plan.measured), plans[0] if plans else None)
