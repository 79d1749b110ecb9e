"""A trial: what was measured on each side, and what was concluded."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from humble_ledger.core.plans.model import Pages
from humble_ledger.core.trials.ratio import RatioInterval


class Verdict(StrEnum):
    """What a trial found; the words of the design."""

    FASTER = "faster"
    LIGHTER = "lighter"  # the same time, clearly less work
    NO_DIFFERENCE = "no-difference"
    SLOWER = "slower"
    HEAVIER = "heavier"  # the same time, clearly more work
    UNDECIDED = "undecided"


@dataclass(frozen=True, slots=True)
class Side:
    """One side of a trial for one query.

    ``runs_ms`` are the recorded runs in order, ``cold_ms`` the first, unrecorded one (the
    cache as it was found). ``pages`` are of one explained run; ``plan`` is the ledger's id. With
    ``timed_out`` the times are the limit at which it was cancelled.
    """

    runs_ms: tuple[float, ...]
    cold_ms: float
    median_ms: float
    cost: float | None
    pages: Pages | None
    rows: int
    plan: str = ""
    timed_out: bool = False


@dataclass(frozen=True, slots=True)
class QueryTrial:
    """One query of a trial: both sides, the ratio, and the verdict with its reason.

    ``same_result`` is None when a side never ended, so that there was nothing to compare.
    """

    query: str
    verdict: Verdict
    reason: str
    before: Side
    after: Side
    ratio: RatioInterval | None
    same_result: bool | None
    result_note: str
    uses_change: bool


@dataclass(frozen=True, slots=True)
class Trial:
    """A whole trial; ``left_behind`` names whatever could not be removed from the target.

    ``failed`` are queries of several that the server refused to run, each with its reason.
    """

    verdict: Verdict
    way: str
    remedies: tuple[str, ...]
    queries: tuple[QueryTrial, ...]
    build_ms: float
    size_bytes: int
    left_behind: tuple[str, ...] = ()
    stopped_early: bool = False
    failed: tuple[tuple[str, str], ...] = ()
