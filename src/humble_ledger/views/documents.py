"""Entries to their JSON documents."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime

from humble_ledger.core.entries import (
    CaptureEntry,
    EventEntry,
    LiveCapture,
    PlanComparison,
    PlanEntry,
    PlanSurroundings,
    QueryFindings,
    RemedyEntry,
    Routes,
    ScriptCapture,
    SettlementEntry,
    SymptomEntry,
    TrialEntry,
)
from humble_ledger.core.glossary.terms import Term
from humble_ledger.core.plans.arithmetic import Account, accounts
from humble_ledger.core.plans.comparison import Figures
from humble_ledger.core.plans.model import Node, Plan
from humble_ledger.core.plans.serving import index_services
from humble_ledger.core.plans.tables import (
    TableAccount,
    join_graph,
    table_accounts,
    whole_work,
)
from humble_ledger.core.routes.exploring import said
from humble_ledger.core.schema.facts import TableFacts
from humble_ledger.core.schema.readiness import Readiness
from humble_ledger.core.trials.model import QueryTrial, Side
from humble_ledger.core.workload.ranking import RankedQuery, Ranking
from humble_ledger.core.workload.sampling import BlockerBranch
from humble_ledger.views import structures as s


def queries_document(ranking: Ranking, top: int | None = None) -> s.QueriesDocument:
    """The ranking; ``top`` keeps the first so many."""
    rows = ranking.rows[:top] if top else ranking.rows
    return s.QueriesDocument(
        [_query(each) for each in rows],
        ranking.by.value,
        ranking.source,
        list(ranking.others),
        list(ranking.compared),
    )


def _query(ranked: RankedQuery) -> s.QueryRow:
    query, usage = ranked.query, ranked.usage
    work = usage.work
    return s.QueryRow(
        id=query.id,
        fingerprint=query.fingerprint,
        text=query.text,
        statement=query.statement,
        parameters=list(query.parameters),
        calls=usage.calls,
        total_ms=round(usage.total_ms, 3) if usage.timed else None,
        mean_ms=round(usage.mean_ms, 3) if usage.timed else None,
        deviation_ms=round(usage.deviation_ms, 3) if usage.timed else None,
        p95_ms=_rounded(usage.p95_ms),
        max_ms=_rounded(usage.max_ms),
        share=round(ranked.share, 6),
        running_share=round(ranked.running_share, 6),
        growth_ms=_rounded(ranked.growth_ms),
        rows_mean=None if work.rows is None else work.rows / max(usage.calls, 1),
        work={
            "rows": work.rows,
            "cached_pages": work.pages_cached,
            "read_pages": work.pages_read,
            "written_pages": work.pages_written,
            "temp_pages": work.temp_pages,
            "planning_ms": work.planning_ms,
            "wal_bytes": work.wal_bytes,
            "compile_ms": work.compile_ms,
        },
        cost_estimated=query.cost,
        tables=list(query.tables),
        applications=list(query.applications),
        first_seen=_iso(query.first_seen),
        last_seen=_iso(query.last_seen),
        sources=list(query.sources),
    )


def query_document(found: QueryFindings) -> s.QueryDocument:
    """One query with everything known of it."""
    runs = [
        s.RunRow(
            run.started_at,
            run.duration_ms,
            run.statement,
            list(run.parameters),
            {column.name: column.values[n] for column in found.columns},
        )
        for n, run in enumerate(found.runs)
    ]
    return s.QueryDocument(
        query=_query(found.ranked),
        source=found.source,
        runs=runs,
        slow_values=[
            s.SlowValueRow(name, each.value, each.runs, each.median_ms, each.others_ms)
            for name, each in found.slow_values
        ],
        periods=[
            s.PeriodRow(each.first_at, each.last_at, each.calls, each.total_ms)
            for each in found.over_time
        ],
        plans=[each.id for each in found.plans],
        symptoms=[each.id for each in found.symptoms],
        waits=[s.WaitRow(w.query, w.kind, w.event, w.samples, w.total_ms) for w in found.waits],
        incidents=[
            s.IncidentRow(
                each.incident.kind.value, each.incident.at, each.incident.amount,
                each.incident.detail, each.query,
            )
            for each in found.incidents
        ],
    )  # fmt: skip


def capture_document(entry: CaptureEntry) -> s.CaptureDocument:
    """One capture."""
    return s.CaptureDocument(
        id=entry.id,
        source=entry.source,
        place=entry.place,
        lines=entry.lines,
        kept_runs=entry.kept,
        queries=entry.queries,
        new_queries=entry.new_queries,
        passed_over=entry.passed_over,
        first_unreadable=entry.first_unreadable,
        first_run=entry.first_run,
        last_run=entry.last_run,
        status=entry.status,
        entries=entry.entries,
        plans=entry.plans,
        incidents=entry.incidents,
        notes=list(entry.notes),
    )


def script_document(found: ScriptCapture) -> s.ScriptDocument:
    """A script, statement by statement."""
    rows = [
        s.ScriptStatementRow(
            each.line,
            each.column,
            each.sql,
            each.query or None,
            each.plan or None,
            each.cost,
            _rounded(each.duration_ms),
            each.fault or None,
            each.why_not or each.not_run or None,
        )
        for each in found.rows
    ]
    return s.ScriptDocument(capture_document(found.entry), rows)


def live_document(found: LiveCapture) -> s.LiveDocument:
    """What sampling showed."""
    samples = found.samples
    return s.LiveDocument(
        capture=capture_document(found.entry),
        looks=samples.looks,
        span_ms=round(samples.seconds * 1000, 1),
        pause_ms=round(samples.sample_ms, 1),
        statements=[
            s.RunningRow(
                found.queries.get(each.sql), each.pid, each.application, each.user, each.sql,
                round(each.lasted_ms, 1), each.samples,
            )
            for each in sorted(
                samples.statements.values(), key=lambda each: each.lasted_ms, reverse=True
            )
        ],
        waits=[
            s.WaitRow(None, kind, event, count, round(count * samples.sample_ms, 1))
            for (kind, event), count in sorted(samples.waits().items(), key=lambda i: -i[1])
        ],
        blockers=[_blocker(branch) for branch in found.blockers],
        long_transactions=[
            s.TransactionRow(
                each.pid, each.application, each.user, round(each.open_s * 1000),
                round(each.idle_s * 1000), each.last_sql,
            )
            for each in samples.long_transactions()
        ],
    )  # fmt: skip


def _blocker(branch: BlockerBranch) -> s.BlockerRow:
    return s.BlockerRow(
        branch.pid,
        branch.state,
        branch.sql,
        None if branch.waited_s is None else round(branch.waited_s * 1000, 1),
        branch.wait_event or None,
        [_blocker(below) for below in branch.below],
    )


def plan_document(entry: PlanEntry, around: PlanSurroundings | None = None) -> s.PlanDocument:
    """A plan, with the server's facts of its tables when it was asked for them."""
    plan = entry.plan
    work = whole_work(plan)
    facts = around.tables if around is not None else {}
    return s.PlanDocument(
        id=entry.id,
        query=entry.query,
        engine=s.EngineInfo(plan.engine, plan.engine_version),
        measured=plan.measured,
        cost_total=plan.cost_total,
        planning_ms=plan.planning_ms,
        execution_ms=plan.execution_ms,
        settings=dict(plan.engine_settings),
        root=_node(plan.root, accounts(plan)),
        tables=[_plan_table(plan, each, facts.get(each.name)) for each in table_accounts(plan)],
        joins=[s.JoinTieRow(t.one, t.other, t.condition, t.step) for t in join_graph(plan).ties],
        work=s.PlanWork(
            work.elapsed_ms, work.work_ms, work.processes, work.memory_bytes, work.spilled_bytes,
            work.temp_pages,
        ),
    )  # fmt: skip


def _plan_table(plan: Plan, account: TableAccount, facts: TableFacts | None) -> s.PlanTableRow:
    indexes = None
    if facts is not None:
        indexes = [
            s.PlanIndexRow(
                each.index.name, each.service.value, len(each.index.keys), each.keys_led,
                list(each.steps),
            )
            for each in index_services(plan, facts, account)
        ]  # fmt: skip
    return s.PlanTableRow(
        table=str(account.name),
        aliases=list(account.aliases),
        steps=list(account.steps),
        scans=account.scans,
        rows_expected=account.rows_expected,
        rows_read=account.rows_read,
        rows_kept=account.rows_kept,
        cached_pages=account.pages_cached,
        read_pages=account.pages_read,
        own_ms=account.own_ms,
        share=account.share,
        columns={column: [p.value for p in places] for column, places in account.columns.items()},
        indexes=indexes,
        table_rows=facts.rows if facts else None,
        table_bytes=facts.size_bytes if facts else None,
        table_analyzed_at=_iso(facts.analyzed_at) if facts else None,
        table_changed_since_rows=facts.changes_since_analyze if facts else None,
    )


def _node(node: Node, figures: dict[int, Account]) -> s.NodeDocument:
    account = figures[node.no]
    measured = node.rows_seen is not None
    return s.NodeDocument(
        no=node.no,
        operation=node.operation.value,
        label=node.label,
        relation=node.relation,
        alias=node.alias,
        index=node.index,
        rows_expected=node.rows_expected,
        rows_seen=node.rows_seen,
        loops=node.loops,
        rows_discarded=node.discarded.total if measured else None,
        cost=s.OwnTotal(round(account.own_cost, 4), node.cost.total if node.cost else None),
        time_ms=s.OwnTotal(_rounded(account.own_ms), _rounded(account.total_ms)),
        process_time_ms=_rounded(account.process_ms),
        share=round(account.own_share, 6),
        pages=_pages(account),
        conditions=s.ConditionLists(
            list(node.conditions.search),
            list(node.conditions.filter),
            list(node.conditions.join),
            list(node.conditions.recheck),
        ),
        sort_keys=list(node.sort_keys),
        processes=_processes(node),
        memory=_memory(node),
        children=[_node(child, figures) for child in node.children],
    )


def _pages(account: Account) -> s.PageCounts | None:
    own = account.own_pages
    if own is None:
        return None
    return s.PageCounts(own.cached, own.read, own.written, own.temp_read, own.temp_written)


def _processes(node: Node) -> s.ProcessCounts | None:
    found = node.processes
    return s.ProcessCounts(found.planned, found.launched, list(found.each)) if found else None


def _memory(node: Node) -> s.MemoryUse | None:
    found = node.memory
    if found is None:
        return None
    return s.MemoryUse(found.method, found.used_bytes, found.spilled_bytes, found.batches)


def symptoms_document(entries: Iterable[SymptomEntry]) -> s.SymptomsDocument:
    """Symptoms."""
    return s.SymptomsDocument([_symptom(entry) for entry in entries])


def _symptom(entry: SymptomEntry) -> s.SymptomRow:
    symptom = entry.symptom
    return s.SymptomRow(
        id=entry.id,
        query=entry.query,
        plan=entry.plan,
        capture=entry.capture,
        node=symptom.node,
        name=symptom.name,
        summary=symptom.summary,
        harmless=symptom.harmless,
        cost_ms=_rounded(symptom.cost_ms),
        share=symptom.cost_share,
        evidence=dict(symptom.evidence),
        cause=s.CauseDocument(symptom.cause.name, symptom.cause.detail),
        remedies=list(entry.remedies),
    )


def remedies_document(entries: Iterable[RemedyEntry]) -> s.RemediesDocument:
    """Remedies."""
    return s.RemediesDocument([_remedy(entry) for entry in entries])


def _remedy(entry: RemedyEntry) -> s.RemedyRow:
    remedy = entry.remedy
    return s.RemedyRow(
        id=entry.id,
        type=remedy.type.value,
        summary=remedy.summary,
        reason=remedy.reason,
        apply=list(remedy.apply),
        revert=list(remedy.revert),
        queries=[
            s.PredictionRow(
                p.query,
                p.cost_before,
                round(p.cost_predicted, 2),
                p.way,
                p.step,
                p.route,
                p.caution,
            )
            for p in remedy.predictions
        ],
        size_bytes_predicted=remedy.size_bytes_predicted,
        upkeep={
            "inserted_rows": remedy.upkeep.inserted_rows,
            "updated_rows": remedy.upkeep.updated_rows,
            "in_page_share": remedy.upkeep.in_page_share,
        },
        status=entry.status,
    )


def trial_document(entry: TrialEntry) -> s.TrialDocument:
    """A trial."""
    trial = entry.trial
    return s.TrialDocument(
        id=entry.id,
        status=entry.status,
        verdict=trial.verdict.value if trial else None,
        way=trial.way if trial else None,
        remedies=list(trial.remedies) if trial else [],
        queries=[_query_trial(each) for each in trial.queries] if trial else [],
        build_ms=_rounded(trial.build_ms) if trial else None,
        size_bytes=trial.size_bytes if trial else None,
        left_behind=list(trial.left_behind) if trial else [],
    )


def _query_trial(each: QueryTrial) -> s.QueryTrialRow:
    ratio = each.ratio
    return s.QueryTrialRow(
        id=each.query,
        verdict=each.verdict.value,
        reason=each.reason,
        before=_side(each.before),
        after=_side(each.after),
        ratio=s.RatioDocument(ratio.estimate, ratio.low, ratio.high, ratio.confidence, ratio.pairs)
        if ratio
        else None,
        same_result=each.same_result,
        result_note=each.result_note,
        uses_change=each.uses_change,
    )


def _side(side: Side) -> s.SideDocument:
    pages = side.pages
    return s.SideDocument(
        median_ms=round(side.median_ms, 4),
        cold_ms=round(side.cold_ms, 4),
        runs_ms=[round(run, 4) for run in side.runs_ms],
        cost=side.cost,
        pages=pages.touched if pages else None,
        temp_pages=pages.temp_read + pages.temp_written if pages else None,
        rows=side.rows,
        plan=side.plan,
    )


def settlement_document(entry: SettlementEntry) -> s.SettlementDocument:
    """The decision on a trial."""
    return s.SettlementDocument(entry.trial, entry.decision, entry.reason, list(entry.files))


def history_document(entries: Sequence[EventEntry]) -> s.HistoryDocument:
    """The history."""
    return s.HistoryDocument([s.EventRow(e.at, e.subject, e.words) for e in entries])


def preflight_document(found: Iterable[Readiness]) -> s.PreflightDocument:
    """What a server lets us see."""
    return s.PreflightDocument(
        [
            s.SourceRow(
                each.source,
                each.state.value,
                each.tells,
                list(each.hides),
                list(each.switch_on),
                each.restart,
                list(each.rights),
            )
            for each in found
        ]
    )


def _iso(moment: datetime | None) -> str | None:
    return moment.isoformat(timespec="milliseconds") if moment else None


def _rounded(value: float | None) -> float | None:
    return None if value is None else round(value, 4)


def glossary_document(terms: Iterable[Term]) -> s.GlossaryDocument:
    """Terms of the glossary."""
    return s.GlossaryDocument(
        [s.TermRow(t.name, t.kind.value, list(t.also), t.words, t.look_out) for t in terms]
    )


def routes_document(found: Routes) -> s.RoutesDocument:
    """The ways to run a statement."""
    decision = found.decision
    return s.RoutesDocument(
        query=found.query,
        statement=found.statement,
        found=found.found,
        asked=found.asked,
        routes=[
            s.RouteRow(
                plan=each.plan.id,
                how=said(each.plan.plan),
                without=sorted(each.avoided),
                cost_estimated=each.plan.plan.cost_total,
                execution_ms=each.plan.plan.execution_ms,
                stopped_after_ms=each.stopped_ms,
                pages=None
                if each.plan.plan.root.pages is None
                else each.plan.plan.root.pages.touched,
            )
            for each in found.routes
        ],
        decision=None
        if decision is None
        else s.DecisionRow(
            by=decision.by.value,
            route=decision.route,
            chosen_cost_estimated=decision.chosen_cost,
            other_cost_estimated=decision.other_cost,
            table=decision.table,
            index=decision.index,
            expected=decision.expected,
            break_even_computed=decision.break_even,
            other_wins_below=decision.other_wins_below,
        ),
    )


def comparison_document(found: PlanComparison) -> s.ComparisonDocument:
    """Two plans, step against step."""
    whole = found.comparison
    return s.ComparisonDocument(
        before=found.before.id,
        after=found.after.id,
        same_shape=whole.same_shape,
        cost=_ratio(whole.cost),
        time_ms=_ratio(whole.time_ms),
        rows=_ratio(whole.rows),
        pages=_ratio(whole.pages),
        calls=_ratio(found.runs("calls")),
        mean_ms=_ratio(found.runs("mean_ms")),
        steps=[
            s.StepPairRow(
                pair.change.value, _compared(pair.before, pair.before_account),
                _compared(pair.after, pair.after_account),
            )
            for pair in whole.pairs
        ],
    )  # fmt: skip


def _ratio(figures: Figures) -> s.BeforeAfter:
    return s.BeforeAfter(figures.before, figures.after, figures.ratio)


def _compared(node: Node | None, account: Account | None) -> s.ComparedStep | None:
    if node is None or account is None:
        return None
    return s.ComparedStep(
        node.no, node.operation.value, node.name, account.own_cost, account.own_ms, account.rows
    )
