"""The records of a bundle, one kind for each file in it: see docs/formats/bundle.md.

Entries are named by ids that hold within the bundle ("q3", "p7"). ``origin`` tells the same entry
from all others anywhere: the uid of the ledger in which it was made, and its number there.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import msgspec
from msgspec import Struct

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.model import Remedy
from humble_ledger.core.replays.model import Replay
from humble_ledger.core.results.growth import GrowthCurve
from humble_ledger.core.symptoms.model import Symptom
from humble_ledger.core.trials.model import Trial
from humble_ledger.ledger.bodies import brought_up

VERSION = 3
Origin = tuple[str, int]
Client = tuple[str, str, str]  # user, database, application


class TargetRecord(Struct, frozen=True):
    """A database that was talked to; the URL has no password."""

    name: str
    url: str
    engine: str
    server_version: str
    role: str
    at: str
    version: int = VERSION


class CaptureRecord(Struct, frozen=True):
    """One act of gathering; ``told`` has its counts, by name."""

    id: str
    origin: Origin
    at: str
    source: str
    place: str
    first_run: str | None
    last_run: str | None
    kept: int
    told: dict[str, Any]
    version: int = VERSION


class QueryRecord(Struct, frozen=True):
    """A statement without its literals."""

    id: str
    at: str
    fingerprint: str
    text: str
    tables: list[str]
    cost: float | None
    version: int = VERSION


class RunRecord(Struct, frozen=True):
    """A run that was kept with its values: the wording's holes are filled by ``literals``."""

    query: str
    capture: str | None
    wording: str
    client: Client
    started_at: str | None
    duration_ms: float | None
    rows: int | None
    literals: list[str]
    parameters: list[str | None]
    session: str
    version: int = VERSION


class PeriodRecord(Struct, frozen=True):
    """What a query took within a minute, or between two looks."""

    query: str
    capture: str
    client: Client
    first_at: str | None
    last_at: str | None
    calls: int
    timed: int
    total_ms: float
    squares_ms2: float
    max_ms: float | None
    durations: str
    work: dict[str, float | None] | None
    version: int = VERSION


class SenderRecord(Struct, frozen=True):
    """What came from one place of an application."""

    query: str
    capture: str
    code: str
    function: str
    route: str
    calls: int
    total_ms: float
    max_ms: float
    requests: int
    most_in_one: int
    version: int = VERSION


class TagRecord(Struct, frozen=True):
    """What runs took whose comments told this name and value."""

    query: str
    capture: str
    name: str
    value: str
    calls: int
    total_ms: float
    squares_ms2: float
    max_ms: float
    version: int = VERSION


class WaitRecord(Struct, frozen=True):
    """What a query was seen waiting for."""

    query: str
    capture: str
    kind: str
    event: str
    samples: int
    total_ms: float
    version: int = VERSION


class IncidentRecord(Struct, frozen=True):
    """An incident of a log."""

    query: str | None
    capture: str
    at: str
    kind: str
    session: str
    amount: float | None
    detail: str
    version: int = VERSION


class PlanRecord(Struct, frozen=True):
    """A plan as it was understood, and the server's own document of it."""

    id: str
    origin: Origin
    at: str
    query: str | None
    statement: str
    parameters: list[str | None]
    read_for: str
    cost: float | None
    plan: Plan
    document: Any
    version: int = VERSION


class SymptomRecord(Struct, frozen=True):
    """A symptom of a plan, of a capture, or of a target's schema."""

    id: str
    origin: Origin
    at: str
    query: str | None
    plan: str | None
    capture: str | None
    subject: str
    symptom: Symptom
    version: int = VERSION


class RemedyRecord(Struct, frozen=True):
    """A change that could help."""

    id: str
    origin: Origin
    at: str
    status: str
    remedy: Remedy
    version: int = VERSION


class TrialRecord(Struct, frozen=True):
    """A trial that has ended."""

    id: str
    origin: Origin
    at: str
    target: str
    status: str
    trial: Trial | None
    version: int = VERSION


class SettlementRecord(Struct, frozen=True):
    """The decision on a trial."""

    trial: str
    at: str
    decision: str
    reason: str
    files: list[str]
    version: int = VERSION


class ReplayRecord(Struct, frozen=True):
    """A replay that has ended."""

    id: str
    origin: Origin
    at: str
    target: str
    status: str
    replay: Replay | None
    version: int = VERSION


class GrowthRecord(Struct, frozen=True):
    """The newest study of what a query costs while its tables grow."""

    query: str
    at: str
    curve: GrowthCurve
    version: int = VERSION


class NoteRecord(Struct, frozen=True):
    """What somebody wrote to an entry."""

    subject: str
    at: str
    text: str
    person: str
    machine: str
    version: int = VERSION


# In the order in which they are put in: what others name comes first.
FILES: dict[str, type[Struct]] = {
    "targets": TargetRecord,
    "captures": CaptureRecord,
    "queries": QueryRecord,
    "plans": PlanRecord,
    "symptoms": SymptomRecord,
    "remedies": RemedyRecord,
    "trials": TrialRecord,
    "settlements": SettlementRecord,
    "replays": ReplayRecord,
    "growths": GrowthRecord,
    "runs": RunRecord,
    "periods": PeriodRecord,
    "senders": SenderRecord,
    "tags": TagRecord,
    "waits": WaitRecord,
    "incidents": IncidentRecord,
    "notes": NoteRecord,
}
Records = Iterator[tuple[str, Any]]  # the name of a file, and a record of it


class _OfVersion(Struct, frozen=True):
    version: int = VERSION


def read_record(name: str, line: bytes) -> Any:
    """A record of the file of this name, of this version or a former one.

    Raises:
        msgspec.DecodeError: it is none.
    """
    type_ = FILES[name]
    version = msgspec.json.decode(line, type=_OfVersion).version if name in _BODIES else VERSION
    if version >= VERSION:
        return msgspec.json.decode(line, type=type_)
    found = msgspec.json.decode(line)
    field, of_type = _BODIES[name]
    try:  # since they have versions, records and the bodies they hold have the same
        found[field] = brought_up(of_type, version, found[field])
        return msgspec.convert(found, type_)
    except (KeyError, TypeError, AttributeError, ValueError) as error:
        raise msgspec.DecodeError(str(error)) from error


# Records that hold a body which former versions wrote otherwise: its field and its type.
_BODIES = {
    "plans": ("plan", "Plan"),
    "symptoms": ("symptom", "Symptom"),
    "remedies": ("remedy", "Remedy"),
}
