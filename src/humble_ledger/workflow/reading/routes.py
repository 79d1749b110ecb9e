"""The routes of a statement: what the server would do otherwise, and what decides."""

from __future__ import annotations

from dataclasses import replace

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.results.plans import Route, Routes
from humble_ledger.core.routes.deciding import deciding
from humble_ledger.core.routes.exploring import Avoided, Found, explore
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import ExplainOptions, PlanDocument, Session
from humble_ledger.engines.registry import plans_of_any
from humble_ledger.errors import StatementTimedOut, WrongUsage
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.reading.plans import keep_plan, table_names
from humble_ledger.workflow.reading.saved import SavedDocument
from humble_ledger.workflow.reading.subjects import subject_of
from humble_ledger.workflow.workspace import Workspace

ORIGIN = "route"
KEPT = 8
# A way that takes so many times as long as the server's own choice is not waited for.
PATIENCE = 10.0
LEAST_PATIENCE_MS = 2_000.0


def routes_of(
    workspace: Workspace,
    what: str,
    *,
    measure: bool = False,
    progress: Progress = lambda _: None,
) -> Routes:
    """All different ways to run WHAT that come to light, the cheapest ones kept as plans.

    With ``measure`` each of those is run twice and the second run is measured; a way that
    takes much longer than the server's own choice is stopped.

    Raises:
        WrongUsage: a plan that was read before cannot be planned again.
    """
    subject = subject_of(workspace, what)
    statement = subject.statement
    query = subject.query
    if subject.plan is not None and subject.plan.statement:
        statement = Statement(subject.plan.statement, subject.plan.parameters)
        query = subject.plan.query
    if subject.saved is not None and subject.saved.lists_routes:
        return _saved_routes(subject.saved)
    if statement is None:
        raise WrongUsage(
            f"{what} is a saved plan: only a server can say what it would do otherwise.",
            'Give the statement:  humble routes "SELECT …"',
        )
    workspace.require_ledger()
    session = workspace.session
    listed = _listed(session, statement)
    if listed is not None:
        return listed
    documents: dict[Avoided, PlanDocument] = {}

    def ask(avoided: Avoided) -> Plan:
        progress(f"asking for the plan without {', '.join(sorted(avoided))}")
        documents[avoided] = session.explain(statement, ExplainOptions(forbidden=avoided))
        return documents[avoided].plan

    first = ask(frozenset())
    found = explore(first, ask, able=session.methods)
    tables = session.tables(table_names(first)) if len(found) > 1 else {}
    decision = deciding([each.plan for each in found], tables, session.costs)
    shown = found[:KEPT]
    if decision is not None and decision.route > KEPT:
        shown[-1] = found[decision.route - 1]
        decision = replace(decision, route=KEPT)
    kept: list[Route] = []
    limit_ms: float | None = None
    for each in shown:
        progress(f"measuring route {len(kept) + 1} of {len(shown)}" if measure else "")
        route = _route(
            workspace, statement, each, documents[each.avoided], query, measure, limit_ms
        )
        query = route.plan.query
        if not kept and route.plan.plan.execution_ms is not None:
            limit_ms = max(PATIENCE * route.plan.plan.execution_ms, LEAST_PATIENCE_MS)
        kept.append(route)
    return Routes(query or "", statement.sql, tuple(kept), len(found), len(documents), decision)


def _listed(session: Session, statement: Statement) -> Routes | None:
    """The routes of a server that lists them itself, in place of a plan."""
    form = plans_of_any(session.server.engine)
    if not form.lists_routes:
        return None
    found = session.explain(statement)
    plans = tuple(form.plans_in(found.document))
    return _saved_routes(SavedDocument(plans, 1, lists_routes=True))


def _saved_routes(saved: SavedDocument) -> Routes:
    """The routes that a server itself listed, as they were saved; nobody is asked."""
    routes = [
        Route(saved.entry_of(number), frozenset()) for number in range(1, len(saved.plans) + 1)
    ]
    statement = saved.plans[0].statement
    return Routes("", statement, tuple(routes), len(routes), 0, None)


def _route(
    workspace: Workspace,
    statement: Statement,
    found: Found,
    document: PlanDocument,
    query: str | None,
    measure: bool,
    limit_ms: float | None,
) -> Route:
    stopped_ms: float | None = None
    if measure:
        at_most = None if limit_ms is None else int(limit_ms)
        try:
            for _ in range(2):  # the first run warms the cache for its own pages
                document = workspace.session.explain(
                    statement,
                    ExplainOptions(measure=True, forbidden=found.avoided, at_most_ms=at_most),
                )
        except StatementTimedOut:
            if limit_ms is None:
                raise
            stopped_ms = limit_ms
    origin = "read" if not found.avoided else ORIGIN
    plan = keep_plan(
        workspace, statement, document.plan, document.document, query=query, origin=origin
    )
    return Route(plan, found.avoided, stopped_ms)
