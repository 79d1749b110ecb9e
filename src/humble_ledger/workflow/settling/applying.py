"""A settled change put on a target for good, and checked there."""

from __future__ import annotations

from collections.abc import Mapping

from humble_ledger.core.entries import RemedyEntry, TrialEntry
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.migration import steps_of
from humble_ledger.core.remedies.model import RemedyType
from humble_ledger.core.results.applications import Application, AppliedQuery
from humble_ledger.core.symptoms.in_plans.registry import find_symptoms
from humble_ledger.engines.contract import AdminSession
from humble_ledger.errors import HumbleError, RefusedForSafety, WrongUsage
from humble_ledger.workflow.configuration import TargetRole
from humble_ledger.workflow.diagnosing.plans import case_of
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.reading.index_names import is_used
from humble_ledger.workflow.reading.plans import explain_now
from humble_ledger.workflow.reading.subjects import subject_of
from humble_ledger.workflow.trying.wanted import require_own
from humble_ledger.workflow.workspace import Workspace

_FINE = "scan-is-right"


def apply_settled(
    workspace: Workspace,
    trial: str,
    *,
    on_production: bool = False,
    progress: Progress = lambda _: None,
) -> Application:
    """Make the change of a trial for good, without blocking writers; see that it is used.

    Raises:
        WrongUsage: the change is a text, which the application sends.
        RefusedForSafety: the target is a production server and nobody said it is meant.
        LockNotGranted, StatementRejected: nothing unfinished is left; the message says what was
            done before.
    """
    entry = workspace.ledger.trials.get(trial)
    if entry.trial is None:
        raise WrongUsage(f"{trial} has no result, so there is nothing to apply.")
    remedies = [workspace.ledger.remedies.get(id_) for id_ in entry.trial.remedies]
    _refuse(workspace, remedies, on_production)
    _refuse_what_is_there(workspace, remedies)
    progress("reading plans as they are")
    before = _looks(workspace, entry)
    with workspace.server().admin() as admin:
        done = _made(workspace, entry, remedies, admin, progress)
        saved_as = admin.saved_as
    _keep_made(workspace, entry, done)
    workspace.reconnect()  # settings of a role are those of new sessions
    progress("reading plans with it")
    after = _looks(workspace, entry)
    return Application(
        trial,
        workspace.public_url,
        tuple(done),
        tuple(_compared(workspace, q, before, after, remedies) for q in before if q in after),
        saved_as,
    )


def _refuse(workspace: Workspace, remedies: list[RemedyEntry], on_production: bool) -> None:
    require_own(remedies)
    texts = [entry.id for entry in remedies if entry.remedy.type is RemedyType.REWRITE]
    if texts:
        raise WrongUsage(
            f"{texts[0]} is another text for a statement: the application sends it, no server "
            "holds it.",
            f"Settle without --apply; the text:  humble show {texts[0]}",
        )
    if workspace.target.role is TargetRole.PRODUCTION and not on_production:
        raise RefusedForSafety(
            "The target is a production server; nothing is changed there unless you say so.",
            "If it is meant, say  --on-production  too. Indexes are built without blocking "
            "writers, and no lock is waited for longer than 2 s.",
        )


def _refuse_what_is_there(workspace: Workspace, remedies: list[RemedyEntry]) -> None:
    """An index of that name is somebody's: it is neither built again nor cleaned up by us."""
    for each in remedies:
        design = each.remedy.index
        if design is None:
            continue
        table = workspace.session.tables([design.table]).get(design.table)
        if table is not None and table.index(each.remedy.index_name) is not None:
            raise WrongUsage(
                f"There is an index {each.remedy.index_name} on {design.table} already; nothing "
                "was changed.",
                f"See it:  humble table {design.table}",
            )


def _keep_made(workspace: Workspace, entry: TrialEntry, done: list[tuple[str, float]]) -> None:
    """What was changed on a target stands in the ledger, however the rest goes."""
    told = workspace.kept_words("; ".join(statement for statement, _ in done))
    workspace.ledger.trials.keep_made(entry.id, f"made on {workspace.public_url}: {told}")


_Looks = Mapping[str, tuple[Plan, frozenset[str]]]


def _looks(workspace: Workspace, entry: TrialEntry) -> _Looks:
    """The plan of each query that used the change, and the symptoms in it, as they are now."""
    assert entry.trial is not None
    found = {}
    concerned = [query for query in entry.trial.queries if query.uses_change]
    for query in concerned or entry.trial.queries:
        plan = explain_now(workspace, subject_of(workspace, query.query), measure=False)
        case, _ = case_of(workspace, plan)
        names = frozenset(s.name for s in find_symptoms(case) if s.name != _FINE)
        found[query.query] = (plan.plan, names)
    return found


def _made(
    workspace: Workspace,
    entry: TrialEntry,
    remedies: list[RemedyEntry],
    admin: AdminSession,
    progress: Progress,
) -> list[tuple[str, float]]:
    done: list[tuple[str, float]] = []
    for each in remedies:
        design = each.remedy.index
        if design is not None:
            # Written down first, so that "tidy" finds it if we are killed meanwhile.
            name = each.remedy.index_name
            workspace.ledger.trials.keep_creation(entry.id, design.table.schema, name)
        for statement in steps_of(each.remedy, workspace.engine.dialect).forward:
            progress(f"running {statement}")
            try:
                done.append((statement, admin.do(statement)))
            except (HumbleError, KeyboardInterrupt) as error:
                if design is not None:
                    # After Ctrl-C the connection may take no other statement.
                    with workspace.server().admin() as others:
                        others.drop_if_invalid(design.table.schema, each.remedy.index_name)
                    workspace.ledger.trials.forget_creations(entry.id)
                if done:
                    _keep_made(workspace, entry, done)
                if done and isinstance(error, HumbleError):
                    told = "; ".join(text for text, _ in done)
                    raise type(error)(
                        f"{error.message} Done before it: {told}", error.hint
                    ) from error
                raise
        workspace.ledger.trials.forget_creations(entry.id)
    return done


def _compared(
    workspace: Workspace, query: str, before: _Looks, after: _Looks, remedies: list[RemedyEntry]
) -> AppliedQuery:
    (old, had), (new, has) = before[query], after[query]
    indexes = [e.remedy for e in remedies if e.remedy.index is not None]
    gone = [e.remedy.removal.name for e in remedies if e.remedy.removal is not None]
    uses = None
    if indexes:
        uses = any(
            is_used(workspace.session, new, each.index, each.index_name)
            for each in indexes
            if each.index is not None
        )
    if gone:
        uses = any(old.uses_index(name) for name in gone)
    return AppliedQuery(
        query,
        old.cost_total,
        new.cost_total,
        uses,
        tuple(sorted(had - has)),
        tuple(sorted(has)),
    )
