"""Trials and the decisions on them."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.entries import (
    Application,
    SettlementEntry,
    TrialEntry,
)
from humble_ledger.core.trials.model import QueryTrial, Side
from humble_ledger.views.documents.parts import rounded


class SideDocument(Struct, frozen=True):
    """One side of a trial."""

    median_ms: float
    cold_ms: float
    runs_ms: list[float]
    cost: float | None
    pages: int | None
    temp_pages: int | None
    rows: int
    plan: str


class RatioDocument(Struct, frozen=True):
    """after/before."""

    estimate: float
    low: float
    high: float
    confidence: float
    pairs: int


class QueryTrialRow(Struct, frozen=True):
    """One query of a trial."""

    id: str
    verdict: str
    reason: str
    before: SideDocument
    after: SideDocument
    ratio: RatioDocument | None
    same_result: bool | None
    result_note: str
    uses_change: bool


class TrialDocument(Struct, frozen=True):
    """A trial."""

    id: str
    status: str
    verdict: str | None
    way: str | None
    remedies: list[str]
    queries: list[QueryTrialRow]
    build_ms: float | None
    size_bytes: int | None
    left_behind: list[str]
    failed: dict[str, str] = {}
    kind: Literal["trial"] = "trial"
    version: Literal[1] = 1


class AppliedQueryRow(Struct, frozen=True):
    """A query after the change was made for good."""

    id: str
    cost_before: float | None
    cost_now: float | None
    uses_change: bool | None
    symptoms_gone: list[str]
    symptoms_left: list[str]


class AppliedRow(Struct, frozen=True):
    """The change made on a target."""

    target: str
    statements: list[str]
    took_ms: list[float]
    queries: list[AppliedQueryRow]


class SettlementDocument(Struct, frozen=True):
    """The decision on a trial."""

    trial: str
    decision: str
    reason: str
    files: list[str]
    applied: AppliedRow | None = None
    kind: Literal["settlement"] = "settlement"
    version: Literal[1] = 1


def trial_document(entry: TrialEntry) -> TrialDocument:
    """A trial."""
    trial = entry.trial
    return TrialDocument(
        id=entry.id,
        status=entry.status,
        verdict=trial.verdict.value if trial else None,
        way=trial.way if trial else None,
        remedies=list(trial.remedies) if trial else [],
        queries=[_query_trial(each) for each in trial.queries] if trial else [],
        build_ms=rounded(trial.build_ms) if trial else None,
        size_bytes=trial.size_bytes if trial else None,
        left_behind=list(trial.left_behind) if trial else [],
        failed=dict(trial.failed) if trial else {},
    )


def _query_trial(each: QueryTrial) -> QueryTrialRow:
    ratio = each.ratio
    return QueryTrialRow(
        id=each.query,
        verdict=each.verdict.value,
        reason=each.reason,
        before=_side(each.before),
        after=_side(each.after),
        ratio=RatioDocument(ratio.estimate, ratio.low, ratio.high, ratio.confidence, ratio.pairs)
        if ratio
        else None,
        same_result=each.same_result,
        result_note=each.result_note,
        uses_change=each.uses_change,
    )


def _side(side: Side) -> SideDocument:
    pages = side.pages
    return SideDocument(
        median_ms=round(side.median_ms, 4),
        cold_ms=round(side.cold_ms, 4),
        runs_ms=[round(run, 4) for run in side.runs_ms],
        cost=side.cost,
        pages=pages.touched if pages else None,
        temp_pages=pages.temp_read + pages.temp_written if pages else None,
        rows=side.rows,
        plan=side.plan,
    )


def settlement_document(
    entry: SettlementEntry, applied: Application | None = None
) -> SettlementDocument:
    """The decision on a trial, and what was made of it on a target."""
    return SettlementDocument(
        entry.trial,
        entry.decision,
        entry.reason,
        list(entry.files),
        _applied(applied) if applied is not None else None,
    )


def _applied(found: Application) -> AppliedRow:
    return AppliedRow(
        found.target,
        [statement for statement, _ in found.statements],
        [round(took, 1) for _, took in found.statements],
        [
            AppliedQueryRow(q.query, q.cost_before, q.cost_now, q.uses, list(q.gone), list(q.left))
            for q in found.queries
        ],
    )
