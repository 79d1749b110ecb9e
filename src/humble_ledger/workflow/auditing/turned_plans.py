"""Plans that are others than they were: asked anew, held against the ledger's, and explained."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.core.audits.findings import Finding, Kind
from humble_ledger.core.audits.flips import Turned, Why, flipped, reasons
from humble_ledger.core.entries import PlanEntry, RemedyEntry
from humble_ledger.core.limits.outline import difference, outline
from humble_ledger.core.messages import Message, message
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.model import CLEARLY_DEARER
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import ExplainOptions, PlanDocument
from humble_ledger.errors import HumbleError
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.reading.plans import keep_plan
from humble_ledger.workflow.workspace import Workspace

_ORIGIN = "audit"
MOST_QUERIES = 200  # the heaviest so many are planned anew


def turned_plans(
    workspace: Workspace, queries: Sequence[str], progress: Progress
) -> tuple[list[Finding], list[str]]:
    """Each query whose plan is another one; and those that could not be planned, with the reason.

    A plan that turned is kept, so that old and new can be seen side by side. It is told until the
    query is planned anew on purpose: that plan is then the one that later ones are held against.
    """
    found: list[Finding] = []
    failed: list[str] = []
    indexes: frozenset[str] | None = None
    remedies = workspace.ledger.remedies.all()
    for number, query in enumerate(queries[:MOST_QUERIES], 1):
        old = _last(workspace, query)
        if old is None:
            continue
        progress(f"the plan of {query}, {number} of {min(len(queries), MOST_QUERIES)}")
        statement = Statement(old.statement, old.parameters)
        try:
            read = workspace.session.explain(statement)
        except HumbleError as error:
            failed.append(f"{query} could not be planned: {error.message}")
            continue
        if not flipped(old.plan, read.plan):
            continue
        new = _kept(workspace, query, statement, read)
        if indexes is None:
            indexes = _indexes(workspace)
        found.append(_told(workspace, old, new, remedies, indexes))
    return found, failed


def _kept(workspace: Workspace, query: str, statement: Statement, read: PlanDocument) -> PlanEntry:
    """The plan as evidence, once: what is read by an audit is not what the next one goes by."""
    known = next(iter(workspace.ledger.plans.of_query(query, _ORIGIN)), None)
    if known is not None and not flipped(known.plan, read.plan):
        return known
    return keep_plan(workspace, statement, read.plan, read.document, query=query, origin=_ORIGIN)


def _last(workspace: Workspace, query: str) -> PlanEntry | None:
    """The newest plan that was read of a target."""
    plans = workspace.ledger.plans
    return next(iter(plans.of_query(query)), None) or next(iter(plans.of_query(query, "log")), None)


def _indexes(workspace: Workspace) -> frozenset[str]:
    """The names of all indexes on the target, those of partitions among them."""
    tables = workspace.session.tables(workspace.session.user_tables())
    return frozenset(index.name for facts in tables.values() for index in facts.indexes)


def _told(
    workspace: Workspace,
    old: PlanEntry,
    new: PlanEntry,
    remedies: Sequence[RemedyEntry],
    indexes: frozenset[str],
) -> Finding:
    query = new.query or ""
    why = reasons(old.plan, new.plan, indexes)
    costs = old.plan.cost_total, new.plan.cost_total
    told = [each.words for each in why]
    next_ = f"humble compare {old.id} {new.id}"
    worse = None not in costs and (costs[1] or 0.0) > CLEARLY_DEARER * (costs[0] or 0.0)
    if worse:
        back = _way_back(workspace, old, why, remedies)
        if back:
            told.append(back[0])
            next_ = back[1]
    return Finding(
        Kind.FLIPPED,
        query,
        message("plan-turned", was=costs[0], is_=costs[1], reasons=told),
        (old.id, new.id),
        next_,
        tuple(difference(outline(old.plan), outline(new.plan))),
        good=None not in costs and (costs[1] or 0.0) * CLEARLY_DEARER < (costs[0] or 0.0),
    )


def _way_back(
    workspace: Workspace, old: PlanEntry, why: Sequence[Turned], remedies: Sequence[RemedyEntry]
) -> tuple[Message, str] | None:
    """What would bring the former plan back, in words and as the trial that verifies it."""
    query = old.query or ""
    for each in why:
        if each.why is Why.INDEX_GONE:
            remedy = next((e for e in remedies if e.remedy.index_name == each.name), None)
            if remedy is not None:
                words = message("makes-index-again", remedy=remedy.id)
                return words, f"humble trial {query} --remedy {remedy.id}"
    settings = [(each.name, each.was) for each in why if each.why is Why.SETTING and each.was]
    if settings and _comes_back(workspace, old, settings):
        said = ", ".join(f"{name} = {value}" for name, value in settings)
        options = " ".join(f"--set {name}={value}" for name, value in settings)
        return message("comes-back-with", settings=said), f"humble trial {query} {options}"
    return None


def _comes_back(workspace: Workspace, old: PlanEntry, settings: Sequence[tuple[str, str]]) -> bool:
    """Whether the planner, asked with these settings, plans as it did."""
    statement = Statement(old.statement, old.parameters)
    try:
        plan: Plan = workspace.session.explain(
            statement, ExplainOptions(settings=tuple(settings))
        ).plan
    except HumbleError:
        return False
    return not flipped(old.plan, plan)
