"""What a kept trial promised for a query, and whether that holds on a target today."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from humble_ledger.core.messages import Told, message

MUCH_DEARER = 1.5  # tables grow; what costs so many times the promise is told


class Standing(StrEnum):
    """How a promise stands."""

    HELD = "held"
    NOT_MADE = "not-made"
    NOT_USED = "not-used"
    DEARER = "dearer"
    UNKNOWN = "unknown"


BROKEN = frozenset((Standing.NOT_MADE, Standing.NOT_USED, Standing.DEARER))


@dataclass(frozen=True, slots=True)
class Promise:
    """What a settled trial found for one query; costs are the server's estimates.

    ``ratio`` is the measured time after/before, None when the trial had none.
    """

    trial: str
    settled_at: str
    query: str
    remedies: tuple[str, ...]
    summary: str
    cost_before: float | None
    cost_promised: float | None
    ratio: float | None


@dataclass(frozen=True, slots=True)
class PromiseToday:
    """A promise and how it stands: the cost now, and in words why."""

    promise: Promise
    standing: Standing
    cost_now: float | None
    words: Told


def judge_promise(
    promise: Promise,
    *,
    missing: str = "",
    used: bool | None = None,
    cost_now: float | None = None,
    unseen: str = "",
) -> PromiseToday:
    """How a promise stands.

    ``missing`` says what is not on the target, ``unseen`` why nothing can be seen from here;
    ``used`` is None where the plan cannot tell.
    """
    if missing:
        return PromiseToday(promise, Standing.NOT_MADE, cost_now, missing)
    if unseen:
        return PromiseToday(promise, Standing.UNKNOWN, cost_now, unseen)
    if used is False:
        return PromiseToday(promise, Standing.NOT_USED, cost_now, message("there-and-not-used"))
    promised = promise.cost_promised
    if cost_now is None or promised is None:
        return PromiseToday(promise, Standing.UNKNOWN, cost_now, message("cost-not-known"))
    if cost_now > MUCH_DEARER * promised:
        return PromiseToday(
            promise,
            Standing.DEARER,
            cost_now,
            message("dearer-than-promised", times=cost_now / promised),
        )
    return PromiseToday(promise, Standing.HELD, cost_now, message("as-good-as-promised"))
