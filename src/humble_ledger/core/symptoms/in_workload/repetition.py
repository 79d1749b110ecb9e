"""Workload symptoms: one small statement sent again and again by one session."""

from __future__ import annotations

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
                f"{_senders(found)} sent it up to {found.largest:,} times {_in_a_row(found)}, "
                f"{found.calls:,} times in {_bursts(found)}, each time with another value",
                _evidence(found),
                Cause(
                    "loop-in-the-application",
                    f"{found.total_ms:,.0f} ms {_where(found)}, spread over "
                    f"{found.seconds:,.3g} s; one statement for all values (a join, or = ANY of "
                    "an array) would be sent once",
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
                f"{found.unchanged:,} of {found.calls:,} repetitions had values that the same "
                f"{'request' if found.requests else 'session'} had just asked for{_by(found)}",
                _evidence(found),
                Cause(
                    "answer-not-remembered",
                    "the application asks again for what it has just been told; it could keep the "
                    "answer",
                ),
                found.total_ms * found.unchanged / found.calls,
                None,
            )
        )
    return symptoms


def _senders(found: Repetition) -> str:
    """The line of code that sent the most of them, else who did."""
    origin = _main_origin(found)
    if origin is None:
        return _sessions(found)
    return origin.words


def _in_a_row(found: Repetition) -> str:
    if not found.requests:
        return "in a row"
    origin = _main_origin(found)
    route = f" ({origin.route})" if origin is not None and origin.route and origin.code else ""
    return f"in one request{route}"


def _by(found: Repetition) -> str:
    origin = _main_origin(found)
    return "" if origin is None else f"; sent by {origin.words}"


def _main_origin(found: Repetition) -> Origin | None:
    return max(found.origins, key=lambda each: found.origins[each], default=None)


def _sessions(found: Repetition) -> str:
    if found.requests:
        return "one request" if len(found.sessions) == 1 else f"{len(found.sessions):,} requests"
    return "one session" if len(found.sessions) == 1 else f"{len(found.sessions):,} sessions"


def _where(found: Repetition) -> str:
    """An application measures the way to the server, too."""
    return "in the application's calls" if found.requests else "on the server"


def _bursts(found: Repetition) -> str:
    if found.requests and found.bursts == len(found.sessions):
        return _sessions(found)
    return "one burst" if found.bursts == 1 else f"{found.bursts:,} bursts"


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
