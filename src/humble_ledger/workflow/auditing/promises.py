"""Whether what settled trials promised holds on a target today."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from humble_ledger.core.audits.promises import Promise, PromiseToday, judge_promise
from humble_ledger.core.entries import RemedyEntry, SettlementEntry, TrialEntry
from humble_ledger.core.remedies.model import RemedyType
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.trials.model import QueryTrial, Verdict
from humble_ledger.errors import HumbleError
from humble_ledger.ledger.shelf import as_kept
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.reading.index_names import is_used
from humble_ledger.workflow.reading.subjects import subject_of
from humble_ledger.workflow.workspace import Workspace

_GOOD = (Verdict.FASTER, Verdict.LIGHTER)
_Tables = Mapping[TableName, TableFacts]


def promises_today(workspace: Workspace, progress: Progress = lambda _: None) -> list[PromiseToday]:
    """Every promise of a trial that was settled with "keep", the newest first; nothing is run."""
    found = []
    tables = workspace.session.tables(workspace.session.user_tables())
    for settled in _newest(workspace.ledger.trials.settlements()):
        if settled.decision != "keep":
            continue
        trial = workspace.ledger.trials.get(settled.trial)
        ids = trial.trial.remedies if trial.trial is not None else ()
        remedies = [workspace.ledger.remedies.get(id_) for id_ in ids]
        for query in _promised(trial):
            progress(f"reading the plan of {query.query}")
            promise = _promise(settled, query, remedies)
            found.append(_today(workspace, promise, remedies, tables))
    return found


def _newest(settlements: Sequence[SettlementEntry]) -> list[SettlementEntry]:
    """The last decision on each trial; they come the newest first."""
    last: dict[str, SettlementEntry] = {}
    for each in settlements:
        last.setdefault(each.trial, each)
    return list(last.values())


def _promised(trial: TrialEntry) -> list[QueryTrial]:
    """The queries that a trial found better, and by its change."""
    if trial.trial is None:
        return []
    return [q for q in trial.trial.queries if q.uses_change and q.verdict in _GOOD]


def _promise(
    settled: SettlementEntry, query: QueryTrial, remedies: Sequence[RemedyEntry]
) -> Promise:
    return Promise(
        settled.trial,
        settled.at,
        query.query,
        tuple(each.id for each in remedies),
        "; ".join(each.remedy.summary for each in remedies),
        query.before.cost,
        query.after.cost,
        query.ratio.estimate if query.ratio is not None else None,
    )


def _today(
    workspace: Workspace,
    promise: Promise,
    remedies: Sequence[RemedyEntry],
    tables: _Tables,
) -> PromiseToday:
    if any(each.remedy.type is RemedyType.REWRITE for each in remedies):
        return _of_a_text(workspace, promise)
    names = {e.remedy.index_name: _name_of(e, tables) for e in remedies if e.remedy.index}
    missing = [
        f"the index {wanted} is not on the target" for wanted, is_ in names.items() if not is_
    ]
    missing += [
        f"the index {gone.name} is still on the target"
        for gone in (each.remedy.removal for each in remedies)
        if gone is not None and _there(gone.place, tables)
    ]
    try:
        statement = subject_of(workspace, promise.query).statement
        assert statement is not None
        plan = workspace.session.explain(statement).plan
    except HumbleError as error:
        return judge_promise(promise, missing="; ".join(missing), unseen=error.message)
    used = None
    if names:
        used = any(
            is_used(workspace.session, plan, e.remedy.index, names[e.remedy.index_name])
            for e in remedies
            if e.remedy.index is not None
        )
    return judge_promise(promise, missing="; ".join(missing), used=used, cost_now=plan.cost_total)


def _of_a_text(workspace: Workspace, promise: Promise) -> PromiseToday:
    """A new text is the application's: the old one seen again tells that it is not in use."""
    (runs,) = workspace.ledger.queries.all(promise.query)
    if runs.last_seen is not None and as_kept(runs.last_seen) > promise.settled_at:
        seen = f"{runs.last_seen:%Y-%m-%d %H:%M}"
        return judge_promise(promise, missing=f"the old text was still sent at {seen}")
    return judge_promise(
        promise, unseen="the application sends the text; the old one was not captured since"
    )


def _name_of(entry: RemedyEntry, tables: _Tables) -> str:
    """What the index is called there: by its name, or one of the same build; "" when missing."""
    design = entry.remedy.index
    assert design is not None
    table = tables.get(design.table)
    if table is None:
        return ""
    by_name = table.index(entry.remedy.index_name)
    if by_name is not None:
        return by_name.name if by_name.valid else ""
    same = (
        index.name
        for index in table.indexes
        if index.valid
        and index.method == design.method
        and index.keys == design.keys
        and set(index.included) >= set(design.included)
        and index.predicate == design.predicate
    )
    return next(same, "")


def _there(removed: tuple[str, str], tables: _Tables) -> bool:
    schema, name = removed
    return any(
        table.name.schema == schema and table.index(name) is not None for table in tables.values()
    )
