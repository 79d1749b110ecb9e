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
class Incident:
    """One incident; ``amount`` in bytes or ms by its kind, None when it has none."""

    kind: IncidentKind
    at: str | None
    session: str
    amount: float | None
    detail: str
