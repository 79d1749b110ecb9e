"""A trial: what was measured on each side, and what was concluded."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from humble_ledger.core.messages import Told
from humble_ledger.core.plans.model import Pages
from humble_ledger.core.trials.ratio import RatioInterval
from humble_ledger.core.trials.write_overhead import MeasuredWriteOverhead


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
    cache as it was found). ``pages``, those of each table, ``planning_ms`` and ``work_ms`` (time
    summed over all processes) are of one explained run; ``plan`` is the ledger's id. With
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
    table_pages: tuple[tuple[str, int], ...] = ()
    planning_ms: float | None = None
    work_ms: float | None = None


@dataclass(frozen=True, slots=True)
class QueryTrial:
    """One query of a trial: both sides, the ratio, and the verdict with its reason.

    ``same_result`` is None when a side never ended, so that there was nothing to compare.
    ``values`` says which values it was run with, ``others`` are the same query with others;
    ``supposed`` ones were never captured, and decide nothing.
    """

    query: str
    verdict: Verdict
    reason: Told
    before: Side
    after: Side
    ratio: RatioInterval | None
    same_result: bool | None
    result_note: Told
    uses_change: bool
    values: str = ""
    supposed: bool = False
    others: tuple[QueryTrial, ...] = ()

    def sets(self) -> tuple[QueryTrial, ...]:
        """The query with each of its sets of values, this one first."""
        return (self, *self.others)


@dataclass(frozen=True, slots=True)
class IndexPart:
    """What one of several indexes does for a query: all of them against all but this one.

    ``cost_without`` and ``cost_with_all`` are the server's estimates; ``ratio`` is the time with
    all over the time without it, None when too few pairs were run.
    """

    remedy: str
    query: str
    used: bool
    cost_without: float | None
    cost_with_all: float | None
    ratio: RatioInterval | None
    verdict: Verdict


@dataclass(frozen=True, slots=True)
class PredictedCost:
    """The cost of a query now and as predicted; both in the server's units."""

    query: str
    cost_before: float
    cost_predicted: float | None
    way: str = "formula"


@dataclass(frozen=True, slots=True)
class Trial:
    """A whole trial; ``left_behind`` names whatever could not be removed from the target.

    ``failed`` are queries of several that the server refused to run, each with its reason.
    ``why_so`` tells why it went this way. ``not_tried`` tells why nothing could be made; then
    all there is are the ``predicted`` costs, which trials of indexes have, too. ``stays`` is what
    nobody can take back, such as the moment when statistics were gathered, in the server's
    counters. ``disturbed_by`` are others who were measuring on the same database meanwhile. With
    ``one_processor`` both sides were run on the same processor of the server, another for each
    pair.
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
    why_so: str = ""
    parts: tuple[IndexPart, ...] = ()
    write_overhead: tuple[MeasuredWriteOverhead, ...] = ()
    not_tried: str = ""
    predicted: tuple[PredictedCost, ...] = ()
    disturbed_by: tuple[str, ...] = ()
    stays: tuple[str, ...] = ()
    one_processor: bool = False
