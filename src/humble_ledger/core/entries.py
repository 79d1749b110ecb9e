"""Entries of the ledger: what the other packages of core compute, with id, time and links."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from humble_ledger.core.estimates.counting import ValueCounts
from humble_ledger.core.estimates.distribution import AskedValue
from humble_ledger.core.estimates.known_values import ColumnValues
from humble_ledger.core.plans.comparison import Comparison, Figures
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.choice.model import Budget, Choice
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.model import Remedy
from humble_ledger.core.replays.model import Replay
from humble_ledger.core.routes.deciding import Decision
from humble_ledger.core.routes.exploring import Method
from humble_ledger.core.schema.facts import ColumnFacts, ServerFacts, TableFacts, TableName
from humble_ledger.core.symptoms.model import Symptom
from humble_ledger.core.trials.model import Trial
from humble_ledger.core.workload.incidents import Incident
from humble_ledger.core.workload.ranking import RankedQuery
from humble_ledger.core.workload.sampling import BlockerBranch, Samples
from humble_ledger.core.workload.usage import Usage
from humble_ledger.core.workload.values import SlowValue


@dataclass(frozen=True, slots=True)
class TargetEntry:
    """A database we may talk to."""

    name: str
    url: str
    engine: str
    version: str
    role: str


@dataclass(frozen=True, slots=True)
class CaptureEntry:
    """One act of gathering; ``passed_over`` counts what was not kept, by reason."""

    id: str
    at: str
    source: str
    place: str
    kept: int
    first_run: str | None
    last_run: str | None
    lines: int
    queries: int
    new_queries: int
    passed_over: dict[str, int]
    first_unreadable: str = ""
    entries: int = 0
    plans: int = 0
    incidents: dict[str, int] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    status: str = "done"


@dataclass(frozen=True, slots=True)
class ReadPosition:
    """How far a log was read: its path then, a fingerprint of its first bytes, an offset.

    ``waiting`` is what the reader needs to go on there, in its own form.
    """

    path: str
    head: str
    head_bytes: int
    offset: int
    waiting: bytes = b""


@dataclass(frozen=True, slots=True)
class RunEntry:
    """One observed run of a query that was kept with its values.

    ``wording`` with ``literals`` is the statement; ``duration_ms`` is None for one that was
    only read in a script.
    """

    started_at: str | None
    duration_ms: float | None
    statement: str
    parameters: tuple[str | None, ...]
    application: str
    user: str
    database: str
    literals: tuple[str, ...] = ()
    wording: str = ""
    rows: int | None = None


@dataclass(frozen=True, slots=True)
class PeriodEntry:
    """What a query took within a minute, or between two looks at statistics."""

    first_at: str | None
    last_at: str | None
    calls: int
    total_ms: float


@dataclass(frozen=True, slots=True)
class WaitEntry:
    """How long a query was seen waiting for something, by sampling."""

    query: str
    kind: str
    event: str
    samples: int
    total_ms: float


@dataclass(frozen=True, slots=True)
class IncidentEntry:
    """An incident of the log; ``query`` is None when it belongs to no statement."""

    query: str | None
    capture: str
    incident: Incident


@dataclass(frozen=True, slots=True)
class History:
    """Lines of the history in order of time: the newest of ``count``."""

    events: tuple[EventEntry, ...]
    count: int


@dataclass(frozen=True, slots=True)
class PlanEntry:
    """A plan in the ledger.

    ``value_reasons`` tells why its values were chosen, where they were drawn from statistics;
    ``planner_calls`` are functions that the planner may have called for it, and of which nobody
    can see what they do. Neither is kept.
    """

    id: str
    at: str
    query: str | None
    statement: str
    parameters: tuple[str | None, ...]
    origin: str
    plan: Plan
    value_reasons: tuple[str, ...] = ()
    planner_calls: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class SymptomEntry:
    """A symptom in the ledger, with the remedies proposed for its query since.

    It was seen in a plan, or in the runs of a capture.
    """

    id: str
    at: str
    query: str | None
    plan: str | None
    symptom: Symptom
    remedies: tuple[str, ...] = ()
    capture: str | None = None


@dataclass(frozen=True, slots=True)
class Diagnosis:
    """A plan with what was found in it and in the runs of its query.

    ``captured_ms`` is what the query took in all its captured runs (0 when it was not
    captured). ``what`` is how it was asked for. ``unknown`` says what could not be judged, and
    why. ``probes`` counts the questions asked of the planner, which took ``probes_ms``.
    """

    plan: PlanEntry
    symptoms: tuple[SymptomEntry, ...]
    captured_ms: float = 0.0
    unknown: str = ""
    what: str = ""
    probes: int = 0
    probes_ms: float = 0.0

    def wasted_ms(self, entry: SymptomEntry) -> float:
        """The time a symptom wastes, over all captured runs where these are known."""
        symptom = entry.symptom
        if symptom.harmless:
            return 0.0
        wasted = symptom.cost_ms or 0.0
        if entry.plan is None or not self.captured_ms:
            return wasted
        if symptom.cost_share is not None:
            return symptom.cost_share * self.captured_ms
        took = self.plan.plan.execution_ms or 0.0
        return min(wasted / took, 1.0) * self.captured_ms if took else wasted

    @property
    def name(self) -> str:
        """The query, else the plan, else the file it was read from."""
        return self.plan.query or (self.plan.id if self.plan.statement else self.what)

    @property
    def wasted_in_all_ms(self) -> float:
        """What all its symptoms waste; never more than was captured."""
        whole = sum(self.wasted_ms(entry) for entry in self.symptoms)
        return min(whole, self.captured_ms) if self.captured_ms else whole


@dataclass(frozen=True, slots=True)
class Diagnoses:
    """What was found in plans, those first that waste most; in the workload, in the schema.

    ``captured_ms`` is what all captured queries took together; ``not_judged`` has what could
    not be judged, with the reason.
    """

    plans: tuple[Diagnosis, ...]
    workload: tuple[SymptomEntry, ...] = ()
    schema: tuple[SymptomEntry, ...] = ()
    captured_ms: float = 0.0
    not_judged: tuple[tuple[str, str], ...] = ()

    @property
    def symptoms(self) -> tuple[SymptomEntry, ...]:
        """All of them, in the order in which they are told."""
        of_plans = (entry for each in self.plans for entry in each.symptoms)
        return (*of_plans, *self.workload, *self.schema)


@dataclass(frozen=True, slots=True)
class TableReport:
    """A table as the server knows it now.

    ``pages_needed`` is what its rows would fill (computed; None when unknown); ``merged`` has
    for each index that another one makes superfluous the name of that one.
    """

    table: TableFacts
    pages_needed: float | None
    merged: Mapping[str, str]
    symptoms: tuple[SymptomEntry, ...] = ()


@dataclass(frozen=True, slots=True)
class ColumnReport:
    """A column's statistics, where the values asked for fall, and what was counted."""

    table: TableFacts
    column: ColumnFacts
    values: ColumnValues
    asked: tuple[AskedValue, ...] = ()
    counts: ValueCounts | None = None


@dataclass(frozen=True, slots=True)
class RemedyEntry:
    """A remedy in the ledger; ``status`` is proposed, tried, kept or dropped."""

    id: str
    at: str
    status: str
    remedy: Remedy


@dataclass(frozen=True, slots=True)
class Proposals:
    """What is worth trying, the best first; and indexes that could stand in place of those.

    ``more_alternatives`` were found and not kept.
    """

    remedies: tuple[RemedyEntry, ...]
    alternatives: tuple[RemedyEntry, ...] = ()
    more_alternatives: int = 0


@dataclass(frozen=True, slots=True)
class ChosenIndexes:
    """A choice under a budget with the entries of its indexes, and of removals it allows.

    ``writers`` are captured queries that change rows of a table that gets an index, with that
    table; ``rewrites`` need no index at all. ``timed`` tells whether captured times stand behind
    the weights, or costs alone.
    """

    choice: Choice
    budget: Budget
    remedies: Mapping[IndexDesign, RemedyEntry]
    removals: tuple[RemedyEntry, ...] = ()
    writers: tuple[tuple[str, str], ...] = ()
    timed: bool = True
    rewrites: tuple[RemedyEntry, ...] = ()


@dataclass(frozen=True, slots=True)
class TrialEntry:
    """A trial in the ledger; ``trial`` is None while it runs or when it was broken off.

    ``mark`` is carried by its sessions on the target, ``process`` names who runs it.
    """

    id: str
    at: str
    target: str
    status: str
    mark: str
    process: str
    trial: Trial | None
    creations: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class AppliedQuery:
    """A query after a change was made for good: cost before and now, and the symptoms.

    ``uses`` tells whether its plan uses the new index (used the removed one); None for changes
    that no plan names.
    """

    query: str
    cost_before: float | None
    cost_now: float | None
    uses: bool | None
    gone: tuple[str, ...]
    left: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Application:
    """A settled change made on a target: the statements with their milliseconds, the queries."""

    trial: str
    target: str
    statements: tuple[tuple[str, float], ...]
    queries: tuple[AppliedQuery, ...]


@dataclass(frozen=True, slots=True)
class ReplayEntry:
    """A replay as it stands in the ledger; ``undoings`` are statements not run yet."""

    id: str
    at: str
    target: str
    status: str
    mark: str
    process: str
    replay: Replay | None = None
    undoings: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class SettlementEntry:
    """The decision on a trial, and the files it wrote."""

    trial: str
    at: str
    decision: str
    reason: str
    files: tuple[str, ...] = field(default=())


@dataclass(frozen=True, slots=True)
class EventEntry:
    """One line of the ledger's history."""

    at: str
    subject: str
    words: str


@dataclass(frozen=True, slots=True)
class ValueColumn:
    """A place in a query where values stand, and the value of each run shown, in order."""

    name: str
    values: tuple[str | None, ...]


@dataclass(frozen=True, slots=True)
class QueryFindings:
    """All that the ledger knows of one query.

    ``source`` is the kind of source its figures are from; ``columns`` has the values of
    ``runs``, the slowest that were kept.
    """

    ranked: RankedQuery
    source: str
    runs: tuple[RunEntry, ...]
    kept_runs: int
    columns: tuple[ValueColumn, ...]
    slow_values: tuple[tuple[str, SlowValue], ...]
    over_time: tuple[PeriodEntry, ...]
    plans: tuple[PlanEntry, ...]
    symptoms: tuple[SymptomEntry, ...]
    waits: tuple[WaitEntry, ...]
    incidents: tuple[IncidentEntry, ...]


@dataclass(frozen=True, slots=True)
class ScriptRow:
    """One statement of a captured script, by its place in the file.

    ``fault`` is why the server rejects it, ``why_not`` why it was not explained or not run;
    both are empty when all is well. ``cost`` is the server's estimate.
    """

    line: int
    column: int
    sql: str
    query: str = ""
    plan: str = ""
    cost: float | None = None
    duration_ms: float | None = None
    fault: str = ""
    why_not: str = ""
    not_run: str = ""


@dataclass(frozen=True, slots=True)
class ScriptCapture:
    """A script's capture, statement by statement; ``measured`` tells that they were run."""

    entry: CaptureEntry
    rows: tuple[ScriptRow, ...]
    measured: bool


@dataclass(frozen=True, slots=True)
class LiveCapture:
    """What sampling showed; ``queries`` has the query's id of each statement's text."""

    entry: CaptureEntry
    samples: Samples
    blockers: tuple[BlockerBranch, ...]
    queries: Mapping[str, str]


@dataclass(frozen=True, slots=True)
class PlanSurroundings:
    """A plan with what the server knows of its tables now.

    Without a server ``tables`` is empty and ``server`` None.
    """

    plan: PlanEntry
    tables: Mapping[TableName, TableFacts]
    server: ServerFacts | None


@dataclass(frozen=True, slots=True)
class Route:
    """One way to run a statement: its plan, and the methods forbidden to bring it to light.

    ``stopped_ms`` tells that it was to be measured and took longer than that.
    """

    plan: PlanEntry
    avoided: frozenset[Method]
    stopped_ms: float | None = None


@dataclass(frozen=True, slots=True)
class Routes:
    """The ways to run a statement, the server's own choice first, then by estimated cost.

    ``found`` different ones came to light in ``asked`` questions, of which the cheapest are
    in ``routes``; ``decision`` is between the first two, None when there is but one.
    """

    query: str
    statement: str
    routes: tuple[Route, ...]
    found: int
    asked: int
    decision: Decision | None


@dataclass(frozen=True, slots=True)
class PlanComparison:
    """Two plans and what became of their steps.

    Of two captures, ``usages`` has the query's runs in each.
    """

    before: PlanEntry
    after: PlanEntry
    comparison: Comparison
    usages: tuple[Usage | None, Usage | None] = (None, None)

    def runs(self, figure: str) -> Figures:
        """One figure of the runs in both captures: calls, mean_ms, p95_ms."""
        one, other = (getattr(usage, figure, None) for usage in self.usages)
        return Figures(one, other)
