"""Incidents: what went wrong beside or within a statement, as the server's log tells it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class IncidentKind(StrEnum):
    """What happened."""

    TEMPORARY_FILE = "temporary-file"
    LOCK_WAIT = "lock-wait"  # still waiting when the log was written
    LOCK_WAITED = "lock-waited"  # got the lock in the end
    LOCK_TIMEOUT = "lock-timeout"
    DEADLOCK = "deadlock"
    CANCELLED = "cancelled"
    CHECKPOINT = "checkpoint"
    CHECKPOINTS_TOO_OFTEN = "checkpoints-too-often"


@dataclass(frozen=True, slots=True)
class IncidentMeaning:
    """An incident in words; ``unit`` of its amount: bytes, ms, or "" when it has none."""

    name: str
    unit: str
    words: str


MEANINGS = {
    IncidentKind.TEMPORARY_FILE: IncidentMeaning(
        "temporary file", "bytes", "a sort or hash did not fit into work_mem"
    ),
    IncidentKind.LOCK_WAIT: IncidentMeaning(
        "lock wait", "ms", "it waited for a lock that another session held"
    ),
    IncidentKind.LOCK_WAITED: IncidentMeaning(
        "lock wait that ended", "ms", "it got the lock after waiting"
    ),
    IncidentKind.LOCK_TIMEOUT: IncidentMeaning(
        "lock time-out", "", "it gave up waiting for a lock"
    ),
    IncidentKind.DEADLOCK: IncidentMeaning(
        "deadlock", "", "two sessions waited for each other; this one was ended"
    ),
    IncidentKind.CANCELLED: IncidentMeaning(
        "cancelled", "", "it was cancelled before it ended, so no run of it is counted"
    ),
    IncidentKind.CHECKPOINT: IncidentMeaning(
        "checkpoint", "ms", "the server wrote its changed pages"
    ),
    IncidentKind.CHECKPOINTS_TOO_OFTEN: IncidentMeaning(
        "checkpoints too often", "", "max_wal_size is small for what is written"
    ),
}


@dataclass(frozen=True, slots=True)
class Incident:
    """One incident; ``amount`` in bytes or ms by its kind, None when it has none."""

    kind: IncidentKind
    at: str | None
    session: str
    amount: float | None
    detail: str
