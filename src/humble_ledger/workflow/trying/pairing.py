"""Paired runs: before and after in turns, until it is clear or there are enough.

What disturbs a machine lasts for milliseconds to seconds. The closer together two runs are,
the more alike it strikes both; so a pair of quick runs is not many of one side and then many of
the other, but many *couples*, one run of each side right after the other, of which the couple
in the middle stands for all.
"""

from __future__ import annotations

import random
import statistics
import time
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.trials.ratio import estimate_only, rate_at, ratio_interval, running_order
from humble_ledger.core.trials.verdicts import judge_time
from humble_ledger.engines.contract import Arm
from humble_ledger.workflow.progress import Progress

QUICK_MS = 10.0  # a shorter run is repeated, so that the clock's grain and wake-ups weigh less
MOST_REPEATS = 100
PAIR_MS = 60.0  # the couples of a pair take about so long on each side
MOST_COUPLES = 101
ALIKE = 2.0
# A pause of changing length between pairs: a machine is disturbed for tens of milliseconds at
# a time, and pairs that all fall into one such while would agree with each other in error.
PAUSE_S = (0.005, 0.030)


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
    move: Callable[[], None] = lambda: None,
) -> None:
    """Add pairs of runs to ``pairs``, first one side first, then the other, and so on.

    ``arms`` are "before" and "after"; ``move`` is called before each pair. Ends when a planned
    look settles the verdict on time, or at ``most_pairs``. What was added stays when Ctrl-C
    comes.
    """
    turns = _turns(arms, statement)
    orders = running_order()
    while True:
        move()
        before, after = _pair(arms, statement, turns, orders)
        pairs.before.append(before)
        pairs.after.append(after)
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


@dataclass(frozen=True, slots=True)
class _Turns:
    """How many couples make a pair, and how often each side is run in one of them."""

    couples: int
    repeats: Mapping[str, int]


def _turns(arms: Mapping[str, Arm], statement: Statement) -> _Turns:
    """Couples that last about `PAIR_MS` on the slower side, in odd number.

    Sides of about the same speed are run once each in a couple, so that what the first of
    several runs costs more weighs the same on both; a much quicker one several times, since it
    would find the processor's caches as the other side left them, and no user does.
    """
    once = {side: warm_ms(arm, statement) for side, arm in arms.items()}
    slow = max(once.values())
    couples = max(1, min(MOST_COUPLES, round(PAIR_MS / slow))) | 1
    if slow < ALIKE * min(once.values()):
        return _Turns(couples, dict.fromkeys(once, 1))
    long = min(slow, QUICK_MS)
    return _Turns(
        couples,
        {side: max(1, min(MOST_REPEATS, round(long / each))) for side, each in once.items()},
    )


def _pair(
    arms: Mapping[str, Arm], statement: Statement, turns: _Turns, orders: Iterator[tuple[str, str]]
) -> tuple[float, float]:
    """The couple whose ratio lies in the middle of them all: before and after, milliseconds."""
    couples = []
    for _ in range(turns.couples):
        run = {side: timed_run(arms[side], statement, turns.repeats[side]) for side in next(orders)}
        couples.append((run["before"], run["after"]))
    return sorted(couples, key=lambda couple: couple[1] / couple[0])[len(couples) // 2]


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
