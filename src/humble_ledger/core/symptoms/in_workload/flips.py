"""`plan-flipped`: a query that runs another way than it did, with its times before and after."""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from dataclasses import dataclass
from statistics import median

from humble_ledger.core.messages import message
from humble_ledger.core.symptoms.model import Cause, Symptom

PLAN_FLIPPED = "plan-flipped"
SLOWER_BY = 1.5
LEAST_MS = 1.0


@dataclass(frozen=True, slots=True)
class Sighting:
    """A plan as it was seen: its id, when, its shape, what it took (ms), and the values."""

    plan: str
    at: str
    shape: Hashable
    took_ms: float | None
    values: Hashable
    way: str


def flip_symptom(sightings: Sequence[Sighting], calls_after: int) -> Symptom | None:
    """The last change of a query's plan, when it was a change for good.

    All plans before must have one shape and all after another, or it is the values that
    decide; a single plan on a side counts only when its values are those of the other side.
    """
    seen = sorted(sightings, key=lambda each: (each.at, len(each.plan), each.plan))
    turn = next((n for n in range(len(seen) - 1, 0, -1) if seen[n].shape != seen[n - 1].shape), 0)
    if not turn:
        return None
    before, after = seen[:turn], seen[turn:]
    before = [each for each in before if each.shape == before[-1].shape]
    if any(each.shape == after[0].shape for each in seen[:turn]):
        return None  # it goes to and fro
    same_values = {each.values for each in before} & {each.values for each in after}
    if not same_values and min(len(before), len(after)) < 2:
        return None
    earlier, later = _took(before), _took(after)
    slower = earlier is not None and later is not None and later - earlier >= LEAST_MS
    slower = slower and later >= SLOWER_BY * earlier  # type: ignore[operator]
    extra = (later or 0.0) - (earlier or 0.0)
    return Symptom(
        name=PLAN_FLIPPED,
        node=0,
        step="",
        summary=message(
            "plan-flipped",
            plan=after[0].plan,
            at=after[0].at[:16],
            before_ms=earlier,
            since_ms=later,
        ),
        evidence={
            "plan_before": before[-1].plan,
            "plan_after": after[0].plan,
            "before_ms": earlier,
            "after_ms": later,
        },
        cause=Cause(
            "another-plan-chosen",
            message(
                "another-plan-chosen",
                before=before[-1].way,
                since=after[0].way,
                plan_before=before[-1].plan,
                plan_since=after[0].plan,
            ),
        ),
        cost_ms=extra * max(calls_after, 1) if slower else None,
        harmless=not slower and earlier is not None and later is not None,
    )


def _took(sightings: Sequence[Sighting]) -> float | None:
    known = [each.took_ms for each in sightings if each.took_ms is not None]
    return median(known) if known else None
