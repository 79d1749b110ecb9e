"""The JSON documents, version 1: keys may be added, never renamed.

A key carries its unit: ``_ms``, ``_bytes``, ``_pages``, ``_rows``. The JSON Schemas in
`docs/schemas/` are made from these structures; null means unknown or not measured.
"""

from __future__ import annotations

from typing import Any, Literal

from msgspec import Struct


class QueryRow(Struct, frozen=True):
    """One query of the ranking."""

    id: str
    fingerprint: str
    text: str
    statement: str
    parameters: list[str | None]
    calls: int
    total_ms: float
    mean_ms: float
    p95_ms: float
    max_ms: float
    share: float
    rows_mean: float | None
    tables: list[str]
    applications: list[str]
    first_seen: str | None
    last_seen: str | None
    sources: list[str]


class QueriesDocument(Struct, frozen=True):
    """The ranking."""

    queries: list[QueryRow]
    kind: Literal["queries"] = "queries"
    version: Literal[1] = 1


class CaptureDocument(Struct, frozen=True):
    """One capture."""

    id: str
    source: str
    place: str
    lines: int
    kept_runs: int
    queries: int
    new_queries: int
    passed_over: dict[str, int]
    first_unreadable: str
    first_run: str | None
    last_run: str | None
    kind: Literal["capture"] = "capture"
    version: Literal[1] = 1


class EngineInfo(Struct, frozen=True):
    """Which server."""

    name: str
    version: str


class OwnTotal(Struct, frozen=True):
    """A figure of a step by itself and with all below it, over all loops."""

    own: float | None
    total: float | None


class PageCounts(Struct, frozen=True):
    """Pages of a step by itself, over all loops."""

    cached: int
    read: int
    written: int
    temp_read: int
    temp_written: int


class ConditionLists(Struct, frozen=True):
    """The conditions of a step, as the server prints them."""

    search: list[str]
    filter: list[str]
    join: list[str]
    recheck: list[str]


class ProcessCounts(Struct, frozen=True):
    """Parallel processes below a gathering step."""

    planned: int
    launched: int | None
    each: list[dict[str, Any]]


class MemoryUse(Struct, frozen=True):
    """Memory of a sort or hash."""

    method: str
    used_bytes: int | None
    spilled_bytes: int
    batches: int | None


class NodeDocument(Struct, frozen=True):
    """One step of a plan. Rows and rows_discarded are per loop, as the server gives them."""

    no: int
    operation: str
    label: str
    relation: str
    alias: str
    index: str
    rows_expected: float | None
    rows_seen: float | None
    loops: float | None
    rows_discarded: float | None
    cost: OwnTotal
    time_ms: OwnTotal
    process_time_ms: float | None
    share: float
    pages: PageCounts | None
    conditions: ConditionLists
    sort_keys: list[str]
    processes: ProcessCounts | None
    memory: MemoryUse | None
    children: list[NodeDocument]


class PlanDocument(Struct, frozen=True):
    """A plan."""

    id: str
    query: str | None
    engine: EngineInfo
    measured: bool
    cost_total: float | None
    planning_ms: float | None
    execution_ms: float | None
    settings: dict[str, str]
    root: NodeDocument
    kind: Literal["plan"] = "plan"
    version: Literal[1] = 1


class CauseDocument(Struct, frozen=True):
    """Why."""

    name: str
    detail: str


class SymptomRow(Struct, frozen=True):
    """One symptom; ``cost_ms`` is the time a better plan would avoid at most."""

    id: str
    query: str | None
    plan: str
    node: int
    name: str
    summary: str
    harmless: bool
    cost_ms: float | None
    share: float | None
    evidence: dict[str, Any]
    cause: CauseDocument
    remedies: list[str]


class SymptomsDocument(Struct, frozen=True):
    """Symptoms."""

    symptoms: list[SymptomRow]
    kind: Literal["symptoms"] = "symptoms"
    version: Literal[1] = 1


class PredictionRow(Struct, frozen=True):
    """What a remedy should do to one query, in the server's cost units."""

    id: str
    cost_before: float
    cost_predicted: float
    way: str
    step: str
    route: str
    caution: str


class RemedyRow(Struct, frozen=True):
    """One remedy."""

    id: str
    type: str
    summary: str
    reason: str
    apply: list[str]
    revert: list[str]
    queries: list[PredictionRow]
    size_bytes_predicted: int | None
    upkeep: dict[str, float | int | None]
    status: str


class RemediesDocument(Struct, frozen=True):
    """Remedies."""

    remedies: list[RemedyRow]
    kind: Literal["remedies"] = "remedies"
    version: Literal[1] = 1


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
    same_result: bool
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
    kind: Literal["trial"] = "trial"
    version: Literal[1] = 1


class SettlementDocument(Struct, frozen=True):
    """The decision on a trial."""

    trial: str
    decision: str
    reason: str
    files: list[str]
    kind: Literal["settlement"] = "settlement"
    version: Literal[1] = 1


class EventRow(Struct, frozen=True):
    """One line of history."""

    at: str
    subject: str
    words: str


class HistoryDocument(Struct, frozen=True):
    """The history."""

    events: list[EventRow]
    kind: Literal["history"] = "history"
    version: Literal[1] = 1


class TargetDocument(Struct, frozen=True):
    """A target as `init` found it."""

    name: str
    url: str
    engine: EngineInfo
    role: str
    database: str
    user: str
    configuration: str
    ledger: str
    kind: Literal["target"] = "target"
    version: Literal[1] = 1


class TidiedRow(Struct, frozen=True):
    """A trial that was never closed."""

    trial: str
    found: list[str]
    removed: bool
    still_runs: bool | None


class TidyDocument(Struct, frozen=True):
    """What was tidied."""

    trials: list[TidiedRow]
    kind: Literal["tidy"] = "tidy"
    version: Literal[1] = 1


class SourceRow(Struct, frozen=True):
    """One source of evidence."""

    source: str
    state: str
    tells: str
    hides: list[str]
    switch_on: list[str]
    restart: bool
    rights: list[str]


class PreflightDocument(Struct, frozen=True):
    """What a server lets us see."""

    sources: list[SourceRow]
    kind: Literal["preflight"] = "preflight"
    version: Literal[1] = 1


class ErrorDocument(Struct, frozen=True):
    """What went wrong."""

    code: str
    message: str
    hint: str
    kind: Literal["error"] = "error"
    version: Literal[1] = 1


DOCUMENTS: tuple[type[Struct], ...] = (
    QueriesDocument,
    CaptureDocument,
    PlanDocument,
    SymptomsDocument,
    RemediesDocument,
    TrialDocument,
    SettlementDocument,
    HistoryDocument,
    TargetDocument,
    TidyDocument,
    PreflightDocument,
    ErrorDocument,
)
