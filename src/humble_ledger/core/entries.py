"""Rows of the ledger: what the other packages of core compute, with id, time and links."""

from __future__ import annotations

from dataclasses import dataclass, field

from humble_ledger.core.messages import Told
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.model import Remedy
from humble_ledger.core.replays.model import Replay
from humble_ledger.core.results.growth import GrowthCurve
from humble_ledger.core.symptoms.model import Symptom
from humble_ledger.core.trials.model import Trial
from humble_ledger.core.workload.incidents import Incident


@dataclass(frozen=True, slots=True)
class TargetEntry:
    """A database we may talk to."""

    name: str
    url: str
    engine: str
    version: str
    role: str


@dataclass(frozen=True, slots=True, kw_only=True)
class CaptureBody:
    """What a capture tells of itself; ``passed_over`` counts what was not kept, by reason."""

    lines: int
    queries: int
    new_queries: int
    passed_over: dict[str, int]
    first_unreadable: str = ""
    entries: int = 0
    plans: int = 0
    incidents: dict[str, int] = field(default_factory=dict)
    notes: tuple[Told, ...] = ()
    status: str = "done"


@dataclass(frozen=True, slots=True, kw_only=True)
class CaptureEntry(CaptureBody):
    """One act of gathering, with what it tells of itself."""

    id: str
    at: str
    source: str
    place: str
    kept: int
    first_run: str | None
    last_run: str | None


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
    ``planner_calls`` are functions that the planner may have called for it, and of which nobody
    can see what they do; ``place`` is where it stands in a document of several, and ``read_by``
    what its reader rests on, where no server was at hand. None is kept.
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
    place: str = ""
    read_by: str = ""


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
    """A remedy in the ledger; ``status`` is proposed, tried, kept or dropped.

    A ``foreign`` one came from another ledger: its statements are a stranger's.
    """

    id: str
    at: str
    status: str
    remedy: Remedy
    foreign: bool = False


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
class GrowthEntry:
    """The newest study of what a query costs while its tables grow."""

    query: str
    at: str
    curve: GrowthCurve


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
    """One line of the ledger's history; ``person`` and ``machine`` are "" where nobody knows."""

    at: str
    subject: str
    words: str
    person: str = ""
    machine: str = ""


@dataclass(frozen=True, slots=True)
class NoteEntry:
    """What somebody wrote to an entry."""

    at: str
    subject: str
    text: str
    person: str
    machine: str
