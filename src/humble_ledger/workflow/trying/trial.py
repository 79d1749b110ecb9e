"""The trial: before and after on the target itself, leaving nothing behind."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field

from humble_ledger.core.dialect import analyzing
from humble_ledger.core.entries import RemedyEntry, TrialEntry
from humble_ledger.core.remedies.asked import Written
from humble_ledger.core.remedies.model import RemedyType
from humble_ledger.core.statements.kinds import (
    Statement,
    StatementKind,
    kind_of,
    require_readable_run,
)
from humble_ledger.core.trials.model import (
    IndexPart,
    PredictedCost,
    QueryTrial,
    Trial,
    Verdict,
)
from humble_ledger.core.trials.ratio import MOST_PAIRS
from humble_ledger.core.trials.tried import TriedQuery
from humble_ledger.core.trials.verdicts import SMALLEST_EFFECT, overall
from humble_ledger.core.trials.ways import Way
from humble_ledger.core.trials.write_overhead import MeasuredWriteOverhead
from humble_ledger.engines.contract import Capability, Experiment, IndexBuild, Support
from humble_ledger.errors import (
    GaveWay,
    HumbleError,
    Interrupted,
    RefusedForSafety,
    StatementRejected,
    WrongUsage,
)
from humble_ledger.workflow.configuration import TargetRole
from humble_ledger.workflow.processes import this_process
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.reading.subjects import subject_of
from humble_ledger.workflow.trying.choosing_way import ChosenWay, choose_way
from humble_ledger.workflow.trying.harmlessness import (
    repetition_of_side_effects,
    require_harmless,
)
from humble_ledger.workflow.trying.holding import held_against
from humble_ledger.workflow.trying.judging import Judging, folded
from humble_ledger.workflow.trying.making import Making, making_of
from humble_ledger.workflow.trying.measuring import Measuring
from humble_ledger.workflow.trying.one_processor import OneProcessor
from humble_ledger.workflow.trying.parts import index_parts
from humble_ledger.workflow.trying.predicting import predicted_costs
from humble_ledger.workflow.trying.staging import Staging
from humble_ledger.workflow.trying.touching import touched_queries
from humble_ledger.workflow.trying.values import sets_of_values
from humble_ledger.workflow.trying.wanted import wanted_remedies
from humble_ledger.workflow.trying.write_overhead import measured_write_overhead
from humble_ledger.workflow.workspace import Workspace


def try_remedies(
    workspace: Workspace,
    whats: Sequence[str],
    *,
    remedies: Sequence[str] = (),
    indexes: Sequence[str] = (),
    written: Written = Written(),  # noqa: B008
    workload: bool = False,
    one_set: bool = False,
    allow_writes: bool = False,
    on_production: bool = False,
    most_pairs: int = MOST_PAIRS,
    smallest_effect: float = SMALLEST_EFFECT,
    progress: Progress = lambda _: None,
    announce: Progress = lambda _: None,
) -> TrialEntry:
    """Try remedies of the ledger, or changes as text, on queries; the trial is kept.

    With ``workload`` also on all captured queries that read what is changed, with ``one_set``
    each query with its slowest values only. ``announce`` is told what will be done to a
    production server before it is.

    Ctrl-C ends the measuring: pairs done so far are judged and kept.

    Raises:
        RefusedForSafety: others would have to wait on a production server, or a statement
            changes data.
        LockNotGranted: a writer holds the table; nothing was changed.
    """
    named = [_tried(workspace, what) for what in whats]
    entries = _remedies(workspace, remedies, indexes, written, named)
    rewriting = any(entry.remedy.type is RemedyType.REWRITE for entry in entries)
    tried = [
        each
        for what, one in zip(whats, named, strict=True)
        for each in (
            [one]
            if one_set or rewriting or not _is_query(one, what)
            else sets_of_values(workspace, one)
        )
    ]
    if workload:
        known = {each.query for each in tried}
        touched = [q for q in touched_queries(workspace, entries) if q not in known]
        tried += [other for q in touched if (other := _readable(workspace, q)) is not None]
    if not tried:
        raise WrongUsage(
            "No query to try it on was named, and none was captured that reads what it changes.",
            "Name one:  humble trial q3 --remedy r1",
        )
    for each in tried:
        require_readable_run(each.statement.sql, allow_writes)
    _refuse_unfitting_rewrites(entries, tried)
    writes = any(kind_of(t.statement.sql) is StatementKind.CHANGES for t in tried)
    require_harmless(workspace, tried, entries, writes=writes)
    entries = [held_against(workspace, entry, tried, progress) for entry in entries]
    told = repetition_of_side_effects(workspace, tried, most_pairs, writes=writes)
    if told:
        announce(told)
    rehearsed = making_of(entries, "", workspace.engine.dialect, writes=writes)
    chosen = choose_way(workspace, rehearsed, tried, on_production=on_production)
    with _recorded(workspace) as record:
        making = making_of(entries, record.mark, workspace.engine.dialect, writes=writes)
        run = _Run(
            workspace, making, record, tried, most_pairs, smallest_effect, progress, announce
        )
        record.result = run.by(chosen)
    return workspace.ledger.trials.get(record.id)


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
        # The engine's context has undone everything it could by now.
        left = trials.get(record.id).creations
        gone = not left or not _still_there(workspace, left, record.mark)
        trials.end(record.id, "broken-off", None, gone=gone)
        raise
    assert record.result is not None
    status = "stopped" if record.result.stopped_early else "done"
    trials.end(record.id, "not-tried" if record.result.not_tried else status, record.result)


@dataclass(slots=True)
class _Measured:
    """What was measured, however it was."""

    builds: Sequence[IndexBuild]
    queries: list[QueryTrial] = field(default_factory=list)
    failed: list[tuple[str, str]] = field(default_factory=list)
    parts: list[IndexPart] = field(default_factory=list)
    disturbed: set[str] = field(default_factory=set)
    interrupted: bool = False
    one_processor: bool = False


@dataclass(slots=True)
class _Run:
    """One trial on its way."""

    workspace: Workspace
    making: Making
    record: _Record
    tried: Sequence[TriedQuery]
    most_pairs: int
    smallest_effect: float
    progress: Progress
    announce: Progress
    predicted: Sequence[PredictedCost] = ()

    def by(self, chosen: ChosenWay) -> Trial:
        """The trial by the way that was chosen, or by the one that turns out to be left."""
        if chosen.way is Way.NOT_TRIED or self.making.indexes:
            self.predicted = predicted_costs(self.workspace, self.making, self.tried, self.progress)
        if chosen.way is Way.NOT_TRIED:
            return self._not_tried(chosen)
        for index in self.making.indexes:
            # Written down first, so that "tidy" finds it if we are killed meanwhile.
            schema = index.design.table.schema
            self.workspace.ledger.trials.keep_creation(self.record.id, schema, index.name)
        if chosen.way is Way.GATHERED:
            # Before anything is measured, so that nobody waits for a refusal.
            self.workspace.server().gathered_for_all(self.making.change)
        self.progress("making " + ", ".join(e.remedy.summary for e in self.making.entries))
        production = self.workspace.target.role is TargetRole.PRODUCTION
        if production and self.making.makes_something and chosen.way is not Way.COPIES:
            self._announce(chosen)
        if chosen.way in (Way.STAGES, Way.ONLINE, Way.GATHERED):
            return self._concluded(chosen, self._staged(chosen))
        server = self.workspace.server(self.record.mark)
        measured = None
        try:
            with server.experiment(self.making.change) as experiment:
                unusable = _unusable(experiment)
                if not unusable:
                    measured = self._alternating(experiment)
        except GaveWay as error:
            unusable = error.message.rstrip(".")
        if measured is not None:
            return self._concluded(chosen, measured)
        if self.making.change.others or self.making.change.hidden or not self.making.indexes:
            raise RefusedForSafety(
                f"The change cannot be judged just now: {unusable}.",
                "Nothing was changed; try again in a moment, or an index by itself.",
            )
        chosen = ChosenWay(Way.ONLINE, unusable)
        self._announce(chosen)
        return self._concluded(chosen, self._staged(chosen))

    def _announce(self, chosen: ChosenWay) -> None:
        """Say what will be done to a server before it is, and what it means for others."""
        what = "; ".join(entry.remedy.summary for entry in self.making.entries)
        how = (
            "builds it online, measures, and drops it online; writers do not wait"
            if chosen.way is Way.ONLINE
            else "makes it in a transaction that is rolled back; neither readers nor writers wait"
        )
        self.announce(f"On {self.workspace.public_url}: {what}: {how}.")

    def _alternating(self, experiment: Experiment) -> _Measured:
        judging = Judging(
            self.workspace, self.making, self.smallest_effect, lambda: experiment.builds
        )
        # A busy server places its processes better than we would.
        production = self.workspace.target.role is TargetRole.PRODUCTION
        place = OneProcessor(() if production else experiment.local_processes())
        measuring = Measuring(judging, experiment, self.most_pairs, place)
        done = _Measured(experiment.builds)
        for each in self.tried:
            done.disturbed |= self._others()
            try:
                found = measuring.query(each, self.progress)
            except StatementRejected as error:
                if len({t.query for t in self.tried}) == 1:
                    raise
                done.failed.append((each.query, self.workspace.kept_words(str(error))))
                continue
            if found is not None:
                done.queries.append(found)
        if done.queries and not measuring.interrupted:
            try:
                done.parts = index_parts(
                    judging, experiment, self.tried, measuring.documents, self.progress
                )
            except KeyboardInterrupt:
                measuring.interrupted = True
        done.interrupted = measuring.interrupted
        done.one_processor = place.holds
        return done

    def _staged(self, chosen: ChosenWay) -> _Measured:
        online = chosen.way is not Way.STAGES
        server = self.workspace.server(self.record.mark)
        disturbed = self._others()
        with server.stages(self.making.change, online=online) as stages:
            judging = Judging(
                self.workspace, self.making, self.smallest_effect, lambda: stages.builds
            )
            staging = Staging(judging, stages, self.most_pairs)
            if chosen.way is Way.GATHERED:
                staging.about_to_make = self._write_down_gathered
            queries = staging.queries(self.tried, self.progress)
            builds = stages.builds
        return _Measured(
            builds, queries, staging.failed, disturbed=disturbed, interrupted=staging.interrupted
        )

    def _write_down_gathered(self) -> None:
        """What every session will have, for "tidy"; asked at the last moment, as others' is not."""
        for name in self.workspace.server().gathered_for_all(self.making.change):
            self.workspace.ledger.trials.keep_creation(self.record.id, "", name)

    def _concluded(self, chosen: ChosenWay, done: _Measured) -> Trial:
        """The trial, once nothing of it is at work on the target any more."""
        if not done.queries and done.failed:
            raise StatementRejected(
                f"None of the queries could be run; {done.failed[0][0]}: {done.failed[0][1]}"
            )
        if not done.queries:
            raise Interrupted(f"Trial {self.record.id} was stopped before any pair was measured.")
        whole = folded(done.queries)
        return Trial(
            verdict=overall(whole),
            way=chosen.way.value,
            why_so=chosen.why,
            remedies=tuple(entry.id for entry in self.making.entries),
            queries=tuple(whole),
            build_ms=sum(build.build_ms for build in done.builds),
            size_bytes=sum(build.size_bytes for build in done.builds),
            left_behind=self._left_behind(),
            stays=tuple(self._counted(chosen)),
            failed=tuple(done.failed),
            stopped_early=done.interrupted,
            parts=tuple(done.parts),
            predicted=tuple(self.predicted),
            write_overhead=() if done.interrupted else self._write_overhead(),
            disturbed_by=tuple(sorted(done.disturbed | self._others())),
            one_processor=done.one_processor,
        )

    def _left_behind(self) -> tuple[str, ...]:
        made = self.workspace.ledger.trials.get(self.record.id).creations
        return _still_there(self.workspace, made, self.record.mark)

    def _counted(self, chosen: ChosenWay) -> list[str]:
        """What stays of gathering: online the statistics, else its moment in the counters."""
        by_expression = [
            index.design.table
            for index in self.making.indexes
            if any(key.expression for key in index.design.keys)
        ]
        if chosen.way is Way.ONLINE:
            return [
                f"statistics of {table} gathered anew, as an index on an expression needs them"
                for table in sorted(set(by_expression), key=str)
            ]
        if chosen.way is Way.GATHERED:
            return []
        dialect = self.workspace.engine.dialect
        word = dialect.analyze.partition(" ")[0]
        analyzed = [s for s in self.making.change.others if s.upper().startswith(word)]
        analyzed += [analyzing(table, dialect) for table in by_expression]
        able = (
            bool(self.workspace.session.support(Capability.UNCOUNTED))
            and not self.making.change.writes
        )
        if able:
            return []
        return [
            f"the moment of {text.rstrip(';')} in the server's counters; statistics are as before"
            for text in sorted(set(analyzed))
        ]

    def _write_overhead(self) -> tuple[MeasuredWriteOverhead, ...]:
        """What writers pay; Ctrl-C here leaves what was measured before."""
        try:
            found = measured_write_overhead(
                self.workspace, self.making, self.record.mark, self.progress
            )
        except KeyboardInterrupt:
            return ()
        return tuple(found)

    def _not_tried(self, chosen: ChosenWay) -> Trial:
        return Trial(
            verdict=Verdict.UNDECIDED,
            way=chosen.way.value,
            remedies=tuple(entry.id for entry in self.making.entries),
            queries=(),
            build_ms=0.0,
            size_bytes=0,
            not_tried=chosen.why,
            predicted=tuple(self.predicted),
        )

    def _others(self) -> set[str]:
        return set(self.workspace.session.concurrent_trials(self.record.mark))


def _unusable(experiment: Experiment) -> str:
    return next((b.unusable_because for b in experiment.builds if b.unusable_because), "")


def _is_query(tried: TriedQuery, what: str) -> bool:
    """Whether a query was named, and not a plan or a statement with its values."""
    return what.strip() == tried.query


def _readable(workspace: Workspace, query: str) -> TriedQuery | None:
    """A captured query that can be run; None when it changes data or its values are unknown."""
    try:
        each = _tried(workspace, query)
        require_readable_run(each.statement.sql, allow_writes=False)
        workspace.session.require_run(each.statement)
    except HumbleError:
        return None
    return each


def _remedies(
    workspace: Workspace,
    ids: Sequence[str],
    indexes: Sequence[str],
    written: Written,
    tried: Sequence[TriedQuery],
) -> list[RemedyEntry]:
    entries = wanted_remedies(workspace, ids, indexes, written, tried)
    removals = [entry for entry in entries if entry.remedy.type is RemedyType.REMOVAL]
    able = workspace.session.support(Capability.HIDDEN_INDEX) if removals else Support()
    if not able:
        raise RefusedForSafety(
            f"{removals[0].id} ({removals[0].remedy.summary}) cannot be tried here: "
            f"{able.reason}; dropping it instead would make readers wait, too.",
            able.remedy,
        )
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


def _refuse_unfitting_rewrites(entries: Sequence[RemedyEntry], tried: Sequence[TriedQuery]) -> None:
    rewrites = [entry for entry in entries if entry.remedy.rewrite is not None]
    if rewrites and (
        len(rewrites) > 1
        or len(tried) > 1
        or {t.query for t in tried} - set(rewrites[0].remedy.queries)
    ):
        raise WrongUsage(
            f"{rewrites[0].id} is another text for {', '.join(rewrites[0].remedy.queries)}: it is "
            "tried on that query, one at a time.",
            f"Use  humble trial {rewrites[0].remedy.queries[0]} --remedy {rewrites[0].id}",
        )
    for text in (entry.remedy.rewrite for entry in rewrites):
        assert text is not None
        require_readable_run(text.new, allow_writes=False)


def _still_there(
    workspace: Workspace, indexes: Sequence[tuple[str, str]], mark: str
) -> tuple[str, ...]:
    """What is left on the target; unknown when the server cannot be asked any more."""
    try:
        return workspace.server(mark).leftovers(indexes).words()
    except HumbleError:
        return ("unknown: the server does not answer; see  humble tidy",)
