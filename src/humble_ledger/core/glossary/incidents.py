"""What the incidents of a server's log mean, in plain words."""

from __future__ import annotations

from dataclasses import dataclass

from humble_ledger.core.workload.incidents import IncidentKind


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
