"""Entries of the ledger: what the other packages of core compute, with id, time and links."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from humble_ledger.core.plans.comparison import Comparison, Figures
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.model import Remedy
from humble_ledger.core.routes.deciding import Decision
from humble_ledger.core.routes.exploring import Method
from humble_ledger.core.schema.facts import ServerFacts, TableFacts, TableName
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
class PlanEntry:
    """A plan in the ledger.

    ``value_reasons`` tells why its values were chosen, where they were drawn from statistics;
    it is not kept.
    """

    id: str
    at: str
    query: str | None
    statement: str
    parameters: tuple[str | None, ...]
    origin: str
    plan: Plan
    value_reasons: tuple[str, ...] = ()


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
class RemedyEntry:
    """A remedy in the ledger; ``status`` is proposed, tried, kept or dropped."""

    id: str
    at: str
    status: str
    remedy: Remedy


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
