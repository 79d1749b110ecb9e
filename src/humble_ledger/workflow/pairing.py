"""Paired runs: before and after in turns, until it is clear or there are enough."""

from __future__ import annotations

import statistics
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.trials.ratio import estimate_only, rate_at, ratio_interval, running_order
from humble_ledger.core.trials.verdicts import judge_time
from humble_ledger.engines.contract import Arm

QUICK_MS = 5.0  # a shorter run is repeated, so that the clock's grain and wake-ups weigh less
MOST_REPEATS = 50

Progress = Callable[[str], None]


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
    repeats = {side: _repeats(arm, statement) for side, arm in arms.items()}
    for order in running_order():
        for side in order:
            getattr(pairs, side).append(_timed(arms[side], statement, repeats[side]))
        running = estimate_only(*pairs.whole())
        progress(f"pair {len(pairs)} of at most {most_pairs}, after/before {running:.3f}")
        if len(pairs) >= most_pairs or _settled(pairs, most_pairs, smallest_effect):
            return


def _settled(pairs: Pairs, most_pairs: int, smallest_effect: float) -> bool:
    rate = rate_at(len(pairs), most_pairs)
    if rate is None:
        return False
    return judge_time(ratio_interval(*pairs.whole(), rate), smallest_effect) is not None


def _repeats(arm: Arm, statement: Statement) -> int:
    """How often one side's run is repeated to last about `QUICK_MS`."""
    once = max(arm.run(statement).elapsed_ms, 0.001)
    return max(1, min(MOST_REPEATS, round(QUICK_MS / once)))


def _timed(arm: Arm, statement: Statement, repeats: int) -> float:
    """One recorded run in milliseconds: the median of so many repeats, one after another."""
    return statistics.median(arm.run(statement).elapsed_ms for _ in range(repeats))
