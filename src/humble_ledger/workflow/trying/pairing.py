"""Paired runs: before and after in turns, until it is clear or there are enough."""

from __future__ import annotations

import random
import statistics
import time
from collections.abc import Mapping
from dataclasses import dataclass, field

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.trials.ratio import estimate_only, rate_at, ratio_interval, running_order
from humble_ledger.core.trials.verdicts import judge_time
from humble_ledger.engines.contract import Arm
from humble_ledger.workflow.progress import Progress

QUICK_MS = 10.0  # a shorter run is repeated, so that the clock's grain and wake-ups weigh less
MOST_REPEATS = 100
ALIKE = 2.0
# A pause of changing length between pairs: a machine is disturbed for tens of milliseconds at
# a time, and pairs that all fall into one such while would agree with each other in error.
PAUSE_S = (0.005, 0.060)


@dataclass(slots=True)
class Pairs:
    """Paired runs of one query, in milliseconds."""

    before: list[float] = field(default_factory=list)
    after: list[float] = field(default_factory=list)

    def __len__(self) -> int:
        return min(len(self.before), len(self.after))

    def whole(self) -> tuple[list[float], list[float]]:
        """The pairs of which both runs were made."""
        return self.before[: len(self)], self.after[: len(self)]


def measure_pairs(
    arms: Mapping[str, Arm],
    statement: Statement,
    pairs: Pairs,
    most_pairs: int,
    smallest_effect: float,
    progress: Progress = lambda _: None,
) -> None:
    """Add pairs of runs to ``pairs``, first one side first, then the other, and so on.

    ``arms`` are «before» and «after». Ends when a planned look settles the verdict on time,
    or at ``most_pairs``. What was added stays when Ctrl-C comes.
    """
    repeats = _repeats(arms, statement)
    for order in running_order():
        for side in order:
            getattr(pairs, side).append(timed_run(arms[side], statement, repeats[side]))
        time.sleep(random.uniform(*PAUSE_S))
        running = estimate_only(*pairs.whole())
        progress(f"pair {len(pairs)} of at most {most_pairs}, after/before {running:.3f}")
        if len(pairs) >= most_pairs or _settled(pairs, most_pairs, smallest_effect):
            return


def _settled(pairs: Pairs, most_pairs: int, smallest_effect: float) -> bool:
    rate = rate_at(len(pairs), most_pairs)
    if rate is None:
        return False
    return judge_time(ratio_interval(*pairs.whole(), rate), smallest_effect) is not None


def _repeats(arms: Mapping[str, Arm], statement: Statement) -> dict[str, int]:
    """How often each side's run is repeated to last about `QUICK_MS`.

    Sides of about the same speed are repeated alike, so that what the first of several runs
    costs more weighs the same on both.
    """
    once = {side: warm_ms(arm, statement) for side, arm in arms.items()}
    counts = {side: repeats_for(each) for side, each in once.items()}
    if max(once.values()) < ALIKE * min(once.values()):
        return dict.fromkeys(counts, max(counts.values()))
    return counts


def repeats_for(once_ms: float) -> int:
    """How often a run of so many milliseconds is repeated to last about `QUICK_MS`."""
    return max(1, min(MOST_REPEATS, round(QUICK_MS / once_ms)))


def warm_ms(arm: Arm, statement: Statement) -> float:
    """One run after another one, which is only repeated when it is quick."""
    first = arm.run(statement).elapsed_ms
    again = arm.run(statement).elapsed_ms if first < QUICK_MS else first
    return max(min(first, again), 0.001)


def timed_run(arm: Arm, statement: Statement, repeats: int) -> float:
    """One recorded run in milliseconds: the median of so many repeats, one after another."""
    return statistics.median(arm.run(statement).elapsed_ms for _ in range(repeats))
