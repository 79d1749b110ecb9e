"""A plan with its steps, its tables and its work."""

from __future__ import annotations

from typing import Any, Literal

from msgspec import Struct

from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.plans.arithmetic import accounts
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.plans.open_document import (
    AdviceRow,
    NodeDocument,
    TriggerRow,
    advice_of,
    step_document,
    triggers_of,
)
from humble_ledger.core.plans.serving import index_services
from humble_ledger.core.plans.tables import (
    TableAccount,
    join_graph,
    table_accounts,
    whole_work,
)
from humble_ledger.core.results.plans import PlanSurroundings
from humble_ledger.core.schema.facts import TableFacts
from humble_ledger.views.documents.parts import iso
from humble_ledger.views.documents.targets import EngineInfo


class PlanIndexRow(Struct, frozen=True):
    """An index of a table in a plan; ``keys_led`` of its ``keys`` lead to rows, or would."""

    name: str
    service: str
    keys: int
    keys_led: int
    steps: list[int]


class PlanTableRow(Struct, frozen=True):
    """One table in a plan, all its scans added up; ``columns`` tells where each one serves.

    ``indexes`` and what begins with ``table_`` are the server's facts at the time of asking,
    null when it was not asked.
    """

    table: str
    aliases: list[str]
    steps: list[int]
    scans: float | None
    rows_expected: float
    rows_read: float | None
    rows_kept: float | None
    cached_pages: int | None
    read_pages: int | None
    self_ms: float | None
    share: float
    columns: dict[str, list[str]]
    indexes: list[PlanIndexRow] | None
    table_rows: float | None
    table_bytes: int | None
    table_analyzed_at: str | None
    table_changed_since_rows: int | None


class JoinTieRow(Struct, frozen=True):
    """Two relations (by alias) and the condition that ties them."""

    one: str
    other: str
    condition: str
    step: int


class PlanWork(Struct, frozen=True):
    """What a plan takes as a whole; ``work_ms`` summed over processes."""

    elapsed_ms: float | None
    work_ms: float | None
    processes: int
    memory_bytes: int
    spilled_bytes: int
    temp_written_pages: int


class PlanDocument(Struct, frozen=True):
    """A plan: the open plan document (docs/formats/plan.md), and what the ledger has beside it."""

    id: str
    query: str | None
    engine: EngineInfo
    measured: bool
    cost_total: float | None
    planning_ms: float | None
    execution_ms: float | None
    settings: dict[str, str]
    planner_calls: list[str]
    root: NodeDocument
    tables: list[PlanTableRow]
    joins: list[JoinTieRow]
    work: PlanWork
    statement: str
    compile_ms: float | None
    triggers: list[TriggerRow]
    own_estimates: bool
    own_words: dict[str, Any]
    remarks: list[str]
    advice: list[AdviceRow]
    kind: Literal["plan"] = "plan"
    version: Literal[2] = 2


def plan_document(entry: PlanEntry, around: PlanSurroundings | None = None) -> PlanDocument:
    """A plan, with the server's facts of its tables when it was asked for them."""
    plan = entry.plan
    work = whole_work(plan)
    facts = around.tables if around is not None else {}
    return PlanDocument(
        id=entry.id,
        query=entry.query,
        engine=EngineInfo(plan.engine, plan.engine_version),
        measured=plan.measured,
        cost_total=plan.cost_total,
        planning_ms=plan.planning_ms,
        execution_ms=plan.execution_ms,
        settings=dict(plan.engine_settings),
        planner_calls=list(entry.planner_calls),
        root=step_document(plan.root, accounts(plan)),
        tables=[_plan_table(plan, each, facts.get(each.name)) for each in table_accounts(plan)],
        joins=[JoinTieRow(t.one, t.other, t.condition, t.step) for t in join_graph(plan).ties],
        work=PlanWork(
            work.elapsed_ms, work.work_ms, work.processes, work.memory_bytes, work.spilled_bytes,
            work.temp_pages,
        ),
        statement=entry.statement,
        compile_ms=plan.compile_ms,
        triggers=triggers_of(plan),
        own_estimates=plan.own_estimates,
        own_words=plan.details,
        remarks=list(plan.remarks),
        advice=advice_of(plan),
    )  # fmt: skip


def _plan_table(plan: Plan, account: TableAccount, facts: TableFacts | None) -> PlanTableRow:
    indexes = None
    if facts is not None:
        indexes = [
            PlanIndexRow(
                each.index.name, each.service.value, len(each.index.keys), each.keys_led,
                list(each.steps),
            )
            for each in index_services(plan, facts, account)
        ]  # fmt: skip
    return PlanTableRow(
        table=str(account.name),
        aliases=list(account.aliases),
        steps=list(account.steps),
        scans=account.scans,
        rows_expected=account.rows_expected,
        rows_read=account.rows_read,
        rows_kept=account.rows_kept,
        cached_pages=account.pages_cached,
        read_pages=account.pages_read,
        self_ms=account.self_ms,
        share=account.share,
        columns={column: [p.value for p in places] for column, places in account.columns.items()},
        indexes=indexes,
        table_rows=facts.rows if facts else None,
        table_bytes=facts.size_bytes if facts else None,
        table_analyzed_at=iso(facts.analyzed_at) if facts else None,
        table_changed_since_rows=facts.changes_since_analyze if facts else None,
    )
