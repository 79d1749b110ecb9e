"""All that a ledger tells about its heaviest queries, for one report."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from humble_ledger.core.entries import (
    CaptureEntry,
    GrowthEntry,
    PeriodEntry,
    PlanEntry,
    RemedyEntry,
    ReplayEntry,
    RunEntry,
    SettlementEntry,
    SymptomEntry,
    TargetEntry,
    TrialEntry,
)
from humble_ledger.core.trials.ratio import RatioInterval
from humble_ledger.core.workload.ranking import RankedQuery, Ranking


@dataclass(frozen=True, slots=True)
class Chapter:
    """One query with its whole chain, from what was captured to what was settled.

    ``plan`` is its newest plan, a measured one before an estimated one; ``runs`` are the slowest
    that were kept; ``settlements`` the last decision on each of its ``trials``.
    """

    ranked: RankedQuery
    sent_by: str = ""
    periods: tuple[PeriodEntry, ...] = ()
    runs: tuple[RunEntry, ...] = ()
    plan: PlanEntry | None = None
    symptoms: tuple[SymptomEntry, ...] = ()
    remedies: tuple[RemedyEntry, ...] = ()
    trials: tuple[TrialEntry, ...] = ()
    settlements: tuple[SettlementEntry, ...] = ()
    growth: GrowthEntry | None = None


@dataclass(frozen=True, slots=True)
class Brought:
    """What a kept change brought one query.

    ``ratio`` is the measured time after/before of its trial; ``captured_ms`` is what the runs took
    that were captured, all of which would have taken ``ratio`` times as long.
    """

    trial: str
    settled_at: str
    query: str
    remedies: tuple[str, ...]
    words: str
    reason: str
    ratio: RatioInterval | None
    captured_ms: float

    @property
    def saved_ms(self) -> float:
        """Of the captured time, what would have been saved (computed)."""
        return 0.0 if self.ratio is None else self.captured_ms * (1.0 - self.ratio.estimate)


@dataclass(frozen=True, slots=True)
class LedgerReport:
    """A report: the ranking, a chapter for each query of it, and what concerns them all.

    With ``masked`` no literal of any statement is in it.
    """

    made_at: str
    ledger: str
    ranking: Ranking
    chapters: tuple[Chapter, ...]
    brought: tuple[Brought, ...]
    targets: tuple[TargetEntry, ...] = ()
    captures: tuple[CaptureEntry, ...] = ()
    beside_queries: tuple[SymptomEntry, ...] = ()
    replays: tuple[ReplayEntry, ...] = ()
    masked: bool = False

    @property
    def saved_ms(self) -> float:
        """What all kept changes would have saved of the captured time (computed)."""
        return sum(each.saved_ms for each in self.brought)


def brought_by(
    trials: Sequence[TrialEntry],
    settled: Sequence[SettlementEntry],
    remedies: Sequence[RemedyEntry],
    captured_ms: dict[str, float],
) -> tuple[Brought, ...]:
    """What each kept trial brought each of its queries, the greatest gain first.

    ``settled`` has the newest decisions first. Of several kept trials of one query the one that was
    settled last counts: it was run with what had been kept before.
    """
    by_trial = {each.id: each for each in trials}
    words = {each.id: each.remedy.summary for each in remedies}
    decided: set[str] = set()
    found: dict[str, Brought] = {}
    for each in settled:
        entry = by_trial.get(each.trial)
        if each.trial in decided or entry is None or entry.trial is None:
            continue
        decided.add(each.trial)
        if each.decision != "keep":
            continue
        for query in entry.trial.queries:
            if query.query in found:
                continue
            found[query.query] = Brought(
                each.trial,
                each.at,
                query.query,
                entry.trial.remedies,
                "; ".join(words.get(id_, id_) for id_ in entry.trial.remedies),
                each.reason,
                query.ratio,
                captured_ms.get(query.query, 0.0),
            )
    return tuple(sorted(found.values(), key=lambda each: -each.saved_ms))
