"""`blocked-by-others` and `blocks-others`: who waited for whose locks, seen live or in a log."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from humble_ledger.core.messages import message
from humble_ledger.core.symptoms.model import Cause, Symptom
from humble_ledger.core.workload.incidents import Incident, IncidentKind

BLOCKED, BLOCKS = "blocked-by-others", "blocks-others"
SPILLS = "writes-temporary-files"
LEAST_WAIT_MS = 100.0
_WAITS = (IncidentKind.LOCK_WAIT, IncidentKind.LOCK_WAITED)
_GIVEN_UP = (IncidentKind.LOCK_TIMEOUT, IncidentKind.DEADLOCK)


@dataclass(frozen=True, slots=True)
class Blockade:
    """One session that was seen to wait for another's lock.

    ``blocked`` and ``blocker`` name their queries (an id, or the beginning of the text);
    ``idle`` tells that the blocker was doing nothing in an open transaction.
    """

    blocked: str
    blocker: str
    waited_ms: float
    lock: str
    idle: bool = False


def blocked_symptom(found: Sequence[Blockade]) -> Symptom | None:
    """The symptom of a query that waited for others."""
    waited = sum(each.waited_ms for each in found)
    if waited < LEAST_WAIT_MS:
        return None
    worst = max(found, key=lambda each: each.waited_ms)
    return Symptom(
        name=BLOCKED,
        node=0,
        step="",
        summary=message(
            "blocked-by-others",
            waited_ms=waited,
            most_ms=worst.waited_ms,
            blocker=worst.blocker,
        ),
        evidence={"waited_ms": waited, "waits": len(found), "blocker": worst.blocker},
        cause=Cause(
            "lock-held-by-another",
            message(
                "lock-held-by-another", blocker=worst.blocker, lock=worst.lock, idle=worst.idle
            ),
        ),
        cost_ms=waited,
    )


def blocking_symptom(found: Sequence[Blockade]) -> Symptom | None:
    """The symptom of a query that others waited for."""
    waited = sum(each.waited_ms for each in found)
    if waited < LEAST_WAIT_MS:
        return None
    names = list(dict.fromkeys(each.blocked for each in found))
    idle = any(each.idle for each in found)
    return Symptom(
        name=BLOCKS,
        node=0,
        step="",
        summary=message("blocks-others", waited_ms=waited, queries=names),
        evidence={"others_waited_ms": waited, "waits": len(found), "blocked": ", ".join(names)},
        cause=Cause(
            "transaction-left-open" if idle else "lock-held-long",
            message("transaction-left-open" if idle else "lock-held-long"),
        ),
        cost_ms=None,
    )


def incident_symptoms(incidents: Iterable[Incident], blockers: str) -> list[Symptom]:
    """What a log tells of a query's lock waits and temporary files.

    ``blockers`` names whom it waited for, as far as known ("" when not).
    """
    seen = list(incidents)
    waits = [i for i in seen if i.kind in _WAITS]
    given_up = [i for i in seen if i.kind in _GIVEN_UP]
    found = []
    # A wait that ended is logged twice: once while it lasted.
    ended = [i for i in waits if i.kind is IncidentKind.LOCK_WAITED] or waits
    waited = sum(i.amount or 0.0 for i in ended)
    if waited >= LEAST_WAIT_MS or given_up:
        found.append(
            Symptom(
                name=BLOCKED,
                node=0,
                step="",
                summary=message(
                    "waited-for-locks", waited_ms=waited, runs=len(ended), given_up=len(given_up)
                ),
                evidence={"waited_ms": waited, "waits": len(ended), "given_up": len(given_up)},
                cause=Cause(
                    "lock-held-by-another",
                    message("lock-held-by", blockers=blockers),
                ),
                cost_ms=waited or None,
            )
        )
    files = [i for i in seen if i.kind is IncidentKind.TEMPORARY_FILE]
    if files:
        written = sum(i.amount or 0.0 for i in files)
        most = max(i.amount or 0.0 for i in files)
        found.append(
            Symptom(
                name=SPILLS,
                node=0,
                step="",
                summary=message(
                    "writes-temporary-files",
                    files=len(files),
                    written_bytes=written,
                    most_bytes=most,
                ),
                evidence={"files": len(files), "bytes": written, "largest_bytes": most},
                cause=Cause(
                    "memory-too-small",
                    message("some-step-spills"),
                ),
            )
        )
    return found
