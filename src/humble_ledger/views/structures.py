"""The JSON documents, version 1: keys may be added, never renamed.

A key carries its unit: ``_ms``, ``_bytes``, ``_pages``, ``_rows``. The JSON Schemas in
`docs/schemas/` are made from these structures; null means unknown or not measured.
"""

from __future__ import annotations

from typing import Any, Literal

from msgspec import Struct


class QueryRow(Struct, frozen=True):
    """One query of the ranking; None is unknown. ``work`` is the sum over all its calls."""

    id: str
    fingerprint: str
    text: str
    statement: str
    parameters: list[str | None]
    calls: int
    total_ms: float | None
    mean_ms: float | None
    deviation_ms: float | None
    p95_ms: float | None
    max_ms: float | None
    share: float
    running_share: float
    growth_ms: float | None
    rows_mean: float | None
    work: dict[str, float | None]
    cost_estimated: float | None
    tables: list[str]
    applications: list[str]
    first_seen: str | None
    last_seen: str | None
    sources: list[str]


class QueriesDocument(Struct, frozen=True):
    """The ranking: what it goes by, the kind of source it rests on, and the others there are.

    ``compared`` names the two captures of a ranking by growth.
    """

    queries: list[QueryRow]
    by: str
    source: str
    other_sources: list[str]
    compared: list[str]
    kind: Literal["queries"] = "queries"
    version: Literal[1] = 1


class RunRow(Struct, frozen=True):
    """One run that was kept with its values; ``values`` by the column they belong to."""

    started_at: str | None
    duration_ms: float | None
    statement: str
    parameters: list[str | None]
    values: dict[str, str | None]


class SlowValueRow(Struct, frozen=True):
    """A value whose runs are slow, against the runs with other values."""

    name: str
    value: str | None
    runs: int
    median_ms: float
    others_median_ms: float


class PeriodRow(Struct, frozen=True):
    """What a query took in a period."""

    first_at: str | None
    last_at: str | None
    calls: int
    total_ms: float


class WaitRow(Struct, frozen=True):
    """What a query was seen waiting for, by sampling."""

    query: str | None
    kind: str
    event: str
    samples: int
    total_ms: float


class IncidentRow(Struct, frozen=True):
    """An incident of the log; ``amount`` in bytes or milliseconds, by its kind."""

    name: str
    at: str | None
    amount: float | None
    detail: str
    query: str | None


class QueryDocument(Struct, frozen=True):
    """One query with everything the ledger knows of it."""

    query: QueryRow
    source: str
    runs: list[RunRow]
    slow_values: list[SlowValueRow]
    periods: list[PeriodRow]
    plans: list[str]
    symptoms: list[str]
    waits: list[WaitRow]
    incidents: list[IncidentRow]
    kind: Literal["query"] = "query"
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
    status: str
    entries: int
    plans: int
    incidents: dict[str, int]
    notes: list[str]
    kind: Literal["capture"] = "capture"
    version: Literal[1] = 1


class ScriptStatementRow(Struct, frozen=True):
    """One statement of a script, by its place in the file (line and column from 1).

    ``fault`` is why the server rejects it, ``note`` why it was not explained or not run.
    """

    line: int
    column: int
    statement: str
    query: str | None
    plan: str | None
    cost_estimated: float | None
    duration_ms: float | None
    fault: str | None
    note: str | None


class ScriptDocument(Struct, frozen=True):
    """A script, statement by statement."""

    capture: CaptureDocument
    statements: list[ScriptStatementRow]
    kind: Literal["script"] = "script"
    version: Literal[1] = 1


class RunningRow(Struct, frozen=True):
    """One execution seen running; ``lasted_ms`` is what it had lasted when seen last."""

    query: str | None
    process: int
    application: str
    user: str
    statement: str
    lasted_ms: float
    samples: int


class BlockerRow(Struct, frozen=True):
    """A session that blocks those below it; ``waited_ms`` is None when it waits for nobody."""

    process: int
    state: str
    statement: str
    waited_ms: float | None
    wait_event: str | None
    blocks: list[BlockerRow]


class TransactionRow(Struct, frozen=True):
    """A transaction open for long."""

    process: int
    application: str
    user: str
    open_ms: int
    idle_ms: int
    last_statement: str


class LiveDocument(Struct, frozen=True):
    """What sampling showed; times are estimated from the looks."""

    capture: CaptureDocument
    looks: int
    span_ms: float
    pause_ms: float
    statements: list[RunningRow]
    waits: list[WaitRow]
    blockers: list[BlockerRow]
    long_transactions: list[TransactionRow]
    kind: Literal["live"] = "live"
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
    own_ms: float | None
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
    tables: list[PlanTableRow]
    joins: list[JoinTieRow]
    work: PlanWork
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
    plan: str | None
    capture: str | None
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


class BeforeAfter(Struct, frozen=True):
    """A figure of two plans; ``ratio`` is after/before."""

    before: float | None
    after: float | None
    ratio: float | None


class ComparedStep(Struct, frozen=True):
    """One step of a comparison; rows are over all loops."""

    no: int
    operation: str
    name: str
    own_cost: float
    own_ms: float | None
    rows: float | None


class StepPairRow(Struct, frozen=True):
    """What became of a step: same, moved, replaced, gone or new."""

    change: str
    before: ComparedStep | None
    after: ComparedStep | None


class RouteRow(Struct, frozen=True):
    """One way to run a statement; the first is the server's own choice.

    ``stopped_after_ms``: it was to be measured and took longer.
    """

    plan: str
    how: str
    without: list[str]
    cost_estimated: float | None
    execution_ms: float | None
    stopped_after_ms: float | None
    pages: int | None


class DecisionRow(Struct, frozen=True):
    """What decides between the first way and ``route``, and where that would begin to win.

    ``expected`` and ``break_even_computed`` are a share of rows or a number of lookups.
    """

    by: str
    route: int
    chosen_cost_estimated: float
    other_cost_estimated: float
    table: str
    index: str
    expected: float | None
    break_even_computed: float | None
    other_wins_below: bool


class RoutesDocument(Struct, frozen=True):
    """The ways a server could run a statement."""

    query: str
    statement: str
    found: int
    asked: int
    routes: list[RouteRow]
    decision: DecisionRow | None
    kind: Literal["routes"] = "routes"
    version: Literal[1] = 1


class ComparisonDocument(Struct, frozen=True):
    """Two plans held against each other."""

    before: str
    after: str
    same_shape: bool
    cost: BeforeAfter
    time_ms: BeforeAfter
    rows: BeforeAfter
    pages: BeforeAfter
    calls: BeforeAfter
    mean_ms: BeforeAfter
    steps: list[StepPairRow]
    kind: Literal["comparison"] = "comparison"
    version: Literal[1] = 1


class TermRow(Struct, frozen=True):
    """A term of the glossary; ``also`` are its other names."""

    name: str
    about: str
    also: list[str]
    words: str
    look_out: str


class GlossaryDocument(Struct, frozen=True):
    """Terms of the glossary."""

    terms: list[TermRow]
    kind: Literal["glossary"] = "glossary"
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
    QueryDocument,
    CaptureDocument,
    ScriptDocument,
    LiveDocument,
    GlossaryDocument,
    ComparisonDocument,
    RoutesDocument,
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
