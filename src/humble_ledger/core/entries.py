"""Entries of the ledger: what the other packages of core compute, with id, time and links."""

from __future__ import annotations

from dataclasses import dataclass, field

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.model import Remedy
from humble_ledger.core.symptoms.model import Symptom
from humble_ledger.core.trials.model import Trial


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


@dataclass(frozen=True, slots=True)
class ReadPosition:
    """How far a log was read: its path then, a fingerprint of its first bytes, an offset."""

    path: str
    head: str
    head_bytes: int
    offset: int


@dataclass(frozen=True, slots=True)
class RunEntry:
    """One observed run of a query."""

    started_at: str | None
    duration_ms: float
    statement: str
    parameters: tuple[str | None, ...]
    application: str
    user: str
    database: str


@dataclass(frozen=True, slots=True)
class PlanEntry:
    """A plan in the ledger."""

    id: str
    at: str
    query: str | None
    statement: str
    parameters: tuple[str | None, ...]
    origin: str
    plan: Plan


@dataclass(frozen=True, slots=True)
class SymptomEntry:
    """A symptom in the ledger, with the remedies proposed for its query since."""

    id: str
    at: str
    query: str | None
    plan: str
    symptom: Symptom
    remedies: tuple[str, ...] = ()


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
