"""Trials and the decisions on them."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.entries import SettlementEntry, TrialEntry
from humble_ledger.core.results.applications import Application
from humble_ledger.core.trials.model import IndexPart, QueryTrial, Side
from humble_ledger.core.trials.ratio import RatioInterval
from humble_ledger.core.trials.write_overhead import MeasuredWriteOverhead
from humble_ledger.views.documents.parts import rounded
from humble_ledger.views.wording import in_words


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
    planning_ms: float | None = None
    process_ms: float | None = None
    table_pages: dict[str, int] = {}


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
    values: str = ""
    other_values: list[QueryTrialRow] = []


class IndexPartRow(Struct, frozen=True):
    """What one of several indexes does for a query: all of them against all but this one."""

    remedy: str
    query: str
    used: bool
    cost_without: float | None
    cost_with_all: float | None
    ratio: RatioDocument | None
    verdict: str


class WriteCostRow(Struct, frozen=True):
    """One kind of write, a batch at a time; ``ratio`` is with/without."""

    operation: str
    columns: list[str]
    without_ms: float
    with_ms: float
    ratio: RatioDocument | None


class WriteOverheadRow(Struct, frozen=True):
    """What a remedy's index costs writers, measured on copies of its table."""

    remedy: str
    table: str
    batch_rows: int
    copied_rows: int
    writes: list[WriteCostRow]
    unknown: str | None


class PredictedCostRow(Struct, frozen=True):
    """A query of a trial in which nothing could be made."""

    id: str
    cost_before: float
    cost_predicted: float | None


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
    why_this_way: str = ""
    parts: list[IndexPartRow] = []
    write_overhead: list[WriteOverheadRow] = []
    not_tried: str | None = None
    predicted: list[PredictedCostRow] = []
    disturbed_by: list[str] = []
    stays: list[str] = []
    one_processor: bool = False
    kind: Literal["trial"] = "trial"
    version: Literal[2] = 2


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
    saved_as: str = ""


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
        verdict=trial.verdict.value if trial and not trial.not_tried else None,
        way=trial.way if trial else None,
        remedies=list(trial.remedies) if trial else [],
        queries=[_query_trial(each) for each in trial.queries] if trial else [],
        build_ms=rounded(trial.build_ms) if trial else None,
        size_bytes=trial.size_bytes if trial else None,
        left_behind=list(trial.left_behind) if trial else [],
        failed=dict(trial.failed) if trial else {},
        why_this_way=trial.why_so if trial else "",
        parts=[_part(each) for each in trial.parts] if trial else [],
        write_overhead=[_write_overhead(each) for each in trial.write_overhead] if trial else [],
        not_tried=(trial.not_tried or None) if trial else None,
        predicted=[
            PredictedCostRow(each.query, each.cost_before, each.cost_predicted)
            for each in (trial.predicted if trial else ())
        ],
        disturbed_by=list(trial.disturbed_by) if trial else [],
        stays=list(trial.stays) if trial else [],
        one_processor=trial.one_processor if trial else False,
    )


def _part(part: IndexPart) -> IndexPartRow:
    return IndexPartRow(
        part.remedy,
        part.query,
        part.used,
        part.cost_without,
        part.cost_with_all,
        _ratio(part.ratio),
        part.verdict.value,
    )


def _write_overhead(write_overhead: MeasuredWriteOverhead) -> WriteOverheadRow:
    return WriteOverheadRow(
        write_overhead.remedy,
        write_overhead.table,
        write_overhead.rows,
        write_overhead.copied_rows,
        [
            WriteCostRow(
                cost.operation,
                list(cost.columns),
                round(cost.without_ms, 4),
                round(cost.with_ms, 4),
                _ratio(cost.ratio),
            )
            for cost in write_overhead.costs
        ],
        write_overhead.unknown or None,
    )


def _ratio(ratio: RatioInterval | None) -> RatioDocument | None:
    if ratio is None:
        return None
    return RatioDocument(ratio.estimate, ratio.low, ratio.high, ratio.confidence, ratio.pairs)


def _query_trial(each: QueryTrial) -> QueryTrialRow:
    return QueryTrialRow(
        id=each.query,
        verdict=each.verdict.value,
        reason=in_words(each.reason),
        before=_side(each.before),
        after=_side(each.after),
        ratio=_ratio(each.ratio),
        same_result=each.same_result,
        result_note=in_words(each.result_note),
        uses_change=each.uses_change,
        values=each.values,
        other_values=[_query_trial(other) for other in each.others],
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
        planning_ms=rounded(side.planning_ms),
        process_ms=rounded(side.work_ms),
        table_pages=dict(side.table_pages),
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
        found.saved_as,
    )
