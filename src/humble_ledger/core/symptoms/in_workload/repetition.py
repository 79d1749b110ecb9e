"""Workload symptoms: one small statement sent again and again by one session."""

from __future__ import annotations

from collections.abc import Mapping

from humble_ledger.core.messages import message
from humble_ledger.core.symptoms.model import Cause, Symptom
from humble_ledger.core.workload.origins import Origin
from humble_ledger.core.workload.repetition import Repetition

SENT_IN_A_LOOP = "n-plus-one-queries"
ASKED_AGAIN = "asked-again-unchanged"
FEWEST_UNCHANGED = 10
UNCHANGED_PART = 0.3


def repetition_symptoms(found: Repetition) -> list[Symptom]:
    """The symptoms of a query's bursts; none when there are none."""
    if not found.bursts:
        return []
    symptoms = []
    changed = found.calls - found.unchanged
    if changed > found.bursts:
        # One statement for all values would do the same work in one round trip.
        part = 1 - found.bursts / changed
        symptoms.append(
            Symptom(
                SENT_IN_A_LOOP,
                0,
                "",
                message(
                    "n-plus-one-queries",
                    **_senders(found),
                    largest=found.largest,
                    calls=found.calls,
                    bursts=found.bursts,
                ),
                _evidence(found),
                Cause(
                    "loop-in-the-application",
                    message(
                        "loop-in-the-application",
                        total_ms=found.total_ms,
                        in_application=bool(found.requests),
                        seconds=found.seconds,
                    ),
                ),
                found.total_ms * part * changed / found.calls,
                None,
            )
        )
    if found.unchanged >= FEWEST_UNCHANGED and found.unchanged > UNCHANGED_PART * found.calls:
        symptoms.append(
            Symptom(
                ASKED_AGAIN,
                0,
                "",
                message(
                    "asked-again-unchanged",
                    unchanged=found.unchanged,
                    calls=found.calls,
                    requests=bool(found.requests),
                    sender=_senders(found)["sender"],
                ),
                _evidence(found),
                Cause(
                    "answer-not-remembered",
                    message("answer-not-remembered"),
                ),
                found.total_ms * found.unchanged / found.calls,
                None,
            )
        )
    return symptoms


def _senders(found: Repetition) -> Mapping[str, object]:
    """Who sent them: the line of code that sent the most, and how many sessions or requests."""
    origin = _main_origin(found)
    return {
        "sender": origin.words if origin is not None else None,
        "route": origin.route if origin is not None and origin.code else None,
        "senders": len(found.sessions),
        "requests": bool(found.requests),
    }


def _main_origin(found: Repetition) -> Origin | None:
    return max(found.origins, key=lambda each: found.origins[each], default=None)


def _evidence(found: Repetition) -> dict[str, float | int | str | bool | None]:
    origin = _main_origin(found)
    told = (
        {}
        if origin is None
        else {"code": origin.code, "function": origin.function, "route": origin.route}
    )
    return {
        **told,
        "calls": found.calls,
        "bursts": found.bursts,
        "largest_burst": found.largest,
        "unchanged": found.unchanged,
        "requests" if found.requests else "sessions": len(found.sessions),
        "total_ms": round(found.total_ms, 3),
        "span_s": round(found.seconds, 3),
    }
