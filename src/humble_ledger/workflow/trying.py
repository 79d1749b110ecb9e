"""The trial: before and after, alternating, on the target itself, leaving nothing behind."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass

from humble_ledger.core.entries import RemedyEntry, TrialEntry
from humble_ledger.core.remedies.asked import Written
from humble_ledger.core.remedies.index_text import parse_index
from humble_ledger.core.remedies.model import RemedyType, index_remedy
from humble_ledger.core.schema.quoting import fitting_name
from humble_ledger.core.statements.kinds import Statement, require_readable_run
from humble_ledger.core.trials.model import QueryTrial, Trial
from humble_ledger.core.trials.ratio import (
    MOST_PAIRS,
)
from humble_ledger.core.trials.tried import TriedQuery
from humble_ledger.core.trials.verdicts import (
    SMALLEST_EFFECT,
    overall,
)
from humble_ledger.engines.contract import Capability, Experiment
from humble_ledger.errors import (
    HumbleError,
    Interrupted,
    RefusedForSafety,
    StatementRejected,
    WrongUsage,
)
from humble_ledger.workflow.configuration import TargetRole
from humble_ledger.workflow.measuring import Measuring
from humble_ledger.workflow.processes import this_process
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.subjects import subject_of
from humble_ledger.workflow.touching import touched_queries
from humble_ledger.workflow.workspace import Workspace

WAY_OF_INDEXES = "uncommitted-index"
WAY_OF_REMOVALS = "hidden-index"
WAY_OF_OTHERS = "uncommitted-change"
WAY_OF_REWRITES = "two-statements"


def try_remedies(
    workspace: Workspace,
    whats: Sequence[str],
    *,
    remedies: Sequence[str] = (),
    indexes: Sequence[str] = (),
    written: Written = Written(),  # noqa: B008
    workload: bool = False,
    most_pairs: int = MOST_PAIRS,
    smallest_effect: float = SMALLEST_EFFECT,
    progress: Progress = lambda _: None,
) -> TrialEntry:
    """Try remedies of the ledger, or changes as text, on queries; the trial is kept.

    With ``workload`` also on all captured queries that read what is changed.

    Ctrl-C ends the measuring: pairs done so far are judged and kept.

    Raises:
        RefusedForSafety: the target is a production server, or a statement changes data.
        LockNotGranted: a writer holds the table; nothing was changed.
    """
    tried = [_tried(workspace, what) for what in whats]
    entries = _remedies(workspace, remedies, indexes, written, tried)
    if workload:
        known = {each.query for each in tried}
        touched = [q for q in touched_queries(workspace, entries) if q not in known]
        tried += [other for q in touched if (other := _readable(workspace, q)) is not None]
    if not tried:
        raise WrongUsage(
            "No query to try it on was named, and none was captured that reads what it changes.",
            "Name one:  humble trial q3 --remedy r1",
        )
    _refuse_what_is_unsafe(workspace, entries, tried)
    with _recorded(workspace) as record:
        indexed = [(e, e.remedy.index) for e in entries if e.remedy.index is not None]
        names = [_trial_name(entry, record.mark) for entry, _ in indexed]
        for (_, design), name in zip(indexed, names, strict=True):
            workspace.ledger.trials.keep_creation(record.id, design.table.schema, name)
        progress("making " + ", ".join(entry.remedy.summary for entry in entries))
        statements = [d.create_sql(n) for (_, d), n in zip(indexed, names, strict=True)]
        types = {entry.remedy.type for entry in entries}
        others = [s for e in entries for s in _inside(workspace, e)]
        rewrites = [e.remedy for e in entries if e.remedy.type is RemedyType.REWRITE]
        with workspace.engine.experiment(
            workspace.target.url, statements, names, record.mark, workspace.limits, others
        ) as experiment:
            _refuse_unusable(experiment)
            measured = Measuring(
                workspace,
                experiment,
                names,
                most_pairs,
                smallest_effect,
                changes_planning=RemedyType.STATISTICS in types,
                changes_running=bool(types & _ALWAYS_USED),
                hidden=[e.remedy.removes[1] for e in entries if e.remedy.removes is not None],
                rewritten=rewrites[0].apply[0].rstrip(";") if rewrites else "",
                values_from=rewrites[0].values_from if rewrites else "",
            )
            queries, failed = _measured(measured, tried, progress)
        if not queries and failed:
            raise StatementRejected(
                f"None of the queries could be run; {failed[0][0]}: {failed[0][1]}"
            )
        if not queries:
            raise Interrupted(f"Trial {record.id} was stopped before any pair was measured.")
        record.result = Trial(
            verdict=overall(queries),
            way=_way(names, others, types),
            remedies=tuple(entry.id for entry in entries),
            queries=tuple(queries),
            build_ms=sum(build.build_ms for build in experiment.builds),
            size_bytes=sum(build.size_bytes for build in experiment.builds),
            left_behind=tuple(_left_behind(workspace, names, record.mark)),
            stopped_early=measured.interrupted,
            failed=tuple(failed),
        )
    return workspace.ledger.trials.get(record.id)


def _measured(
    measured: Measuring, tried: Sequence[TriedQuery], progress: Progress
) -> tuple[list[QueryTrial], list[tuple[str, str]]]:
    """The trial of each query, and those of several that the server refused to run.

    Raises:
        StatementRejected: it refused the only one.
    """
    queries, failed = [], []
    for each in tried:
        try:
            found = measured.query(each, progress)
        except StatementRejected as error:
            if len(tried) == 1:
                raise
            failed.append((each.query, str(error)))
            continue
        if found is not None:
            queries.append(found)
    return queries, failed


_SET_INSIDE = (RemedyType.STATISTICS, RemedyType.SETTING, RemedyType.CHANGE)
_WRITES_NOTHING = frozenset((RemedyType.SETTING, RemedyType.REWRITE))
_ALWAYS_USED = frozenset((RemedyType.SETTING, RemedyType.REWRITE, RemedyType.CHANGE))


def _inside(workspace: Workspace, entry: RemedyEntry) -> tuple[str, ...]:
    """The statements of a remedy that one connection alone gets, besides building indexes."""
    if entry.remedy.removes is not None:
        return (workspace.engine.hide_index_sql(*entry.remedy.removes),)
    return entry.remedy.apply if entry.remedy.type in _SET_INSIDE else ()


def _way(names: Sequence[str], others: Sequence[str], types: Collection[RemedyType]) -> str:
    if names:
        return WAY_OF_INDEXES
    if types == {RemedyType.REMOVAL}:
        return WAY_OF_REMOVALS
    return WAY_OF_OTHERS if others else WAY_OF_REWRITES


def _readable(workspace: Workspace, query: str) -> TriedQuery | None:
    """A captured query that can be run; None when it changes data or its values are unknown."""
    try:
        each = _tried(workspace, query)
        require_readable_run(each.statement.sql, allow_writes=False)
        workspace.session.explain(each.statement)
    except HumbleError:
        return None
    return each


@dataclass(slots=True)
class _Record:
    id: str
    mark: str
    result: Trial | None = None


@contextmanager
def _recorded(workspace: Workspace) -> Iterator[_Record]:
    """A trial in the ledger from before its first act to after its last."""
    trials = workspace.ledger.trials
    record = _Record(*trials.begin(workspace.public_url, workspace.ledger.uid, this_process()))
    try:
        yield record
    except (HumbleError, KeyboardInterrupt):
        # The engine's context has undone everything by now.
        trials.end(record.id, "broken-off", None)
        raise
    assert record.result is not None
    trials.end(record.id, "stopped" if record.result.stopped_early else "done", record.result)


def _remedies(
    workspace: Workspace,
    ids: Sequence[str],
    indexes: Sequence[str],
    written: Written,
    tried: Sequence[TriedQuery],
) -> list[RemedyEntry]:
    entries = [workspace.ledger.remedies.get(id_) for id_ in ids]
    removals = [entry for entry in entries if entry.remedy.type is RemedyType.REMOVAL]
    if removals and not workspace.session.can(Capability.HIDDEN_INDEX):
        raise RefusedForSafety(
            f"{removals[0].id} ({removals[0].remedy.summary}) cannot be tried here: only a "
            "superuser can hide an index from one connection, and dropping it would make readers "
            "wait, too.",
            "Try it on a copy where you are superuser: name one with --target.",
        )
    entries += [workspace.ledger.remedies.keep_known(r) for r in written.remedies(tried)]
    for text in indexes:
        remedy = index_remedy(parse_index(text), reason="asked for")
        entries.append(workspace.ledger.remedies.keep_known(remedy))
    if not entries:
        raise WrongUsage(
            "Nothing to try was named.",
            'Name one with --remedy r1, or write one:  --index "table (column)", --rewrite, --set, '
            "--apply with --revert.",
        )
    return entries


def _tried(workspace: Workspace, what: str) -> TriedQuery:
    subject = subject_of(workspace, what)
    if subject.plan is not None:
        entry = subject.plan
        assert entry.query is not None
        return TriedQuery(entry.query, Statement(entry.statement, entry.parameters))
    if subject.statement is None:
        raise WrongUsage("A saved plan cannot be tried.", "Give the statement or the query's id.")
    query = subject.query or workspace.ledger.queries.keep(subject.statement.sql)
    return TriedQuery(query, subject.statement)


def _refuse_what_is_unsafe(
    workspace: Workspace, entries: Sequence[RemedyEntry], tried: Sequence[TriedQuery]
) -> None:
    for each in tried:
        require_readable_run(each.statement.sql, allow_writes=False)
    rewrites = [entry for entry in entries if entry.remedy.type is RemedyType.REWRITE]
    if rewrites and (
        len(rewrites) > 1
        or len(tried) > 1
        or {t.query for t in tried} - set(rewrites[0].remedy.queries)
    ):
        raise WrongUsage(
            f"{rewrites[0].id} is another text for {', '.join(rewrites[0].remedy.queries)}: it is "
            "tried on that query, one at a time.",
            f"Say  humble trial {rewrites[0].remedy.queries[0]} --remedy {rewrites[0].id}",
        )
    for entry in rewrites:
        require_readable_run(entry.remedy.apply[0], allow_writes=False)
    if all(entry.remedy.type in _WRITES_NOTHING for entry in entries):
        return  # nobody waits
    if workspace.target.role is TargetRole.PRODUCTION:
        raise RefusedForSafety(
            "The target is a production server, and this way of trying makes writers to the "
            "table wait.",
            "Try it on a copy: name one with --target.",
        )
    if not workspace.session.can(Capability.UNCOMMITTED_INDEX):
        raise RefusedForSafety(
            "The target is a read-only copy: nothing can be built there, not even for a moment.",
            "Name a server that takes writes with --target.",
        )


def _refuse_unusable(experiment: Experiment) -> None:
    for build in experiment.builds:
        if build.unusable_because:
            raise RefusedForSafety(
                f"The index cannot be judged just now: {build.unusable_because}.",
                "Nothing was changed; try again in a moment.",
            )


def _trial_name(entry: RemedyEntry, mark: str) -> str:
    """A name nobody else uses, by which leftovers can be told: the index's own and the trial."""
    suffix = "__" + mark.replace("@", "_")
    return fitting_name(entry.remedy.index_name[: 63 - len(suffix)] + suffix)


def _left_behind(workspace: Workspace, names: Sequence[str], mark: str) -> tuple[str, ...]:
    return workspace.engine.leftovers(workspace.target.url, names, mark).words()
