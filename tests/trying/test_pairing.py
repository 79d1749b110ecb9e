"""Which runs make a pair, in what order they are sent, and where the servers' processes run."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import dataclass, field
from itertools import cycle

import pytest

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Outcome
from humble_ledger.workflow.trying.one_processor import OneProcessor
from humble_ledger.workflow.trying.pairing import Pairs, measure_pairs

QUERY = Statement("SELECT 1")


@dataclass
class Scripted:
    """An arm whose runs take the times it is given, again and again."""

    name: str
    times: list[float]
    sent: list[str]
    _next: Iterator[float] = field(init=False)

    def __post_init__(self) -> None:
        self._next = cycle(self.times)

    def run(self, statement: Statement) -> Outcome:
        self.sent.append(self.name)
        return Outcome(next(self._next), 1)


def measured(before: list[float], after: list[float], most: int) -> tuple[Pairs, list[str]]:
    sent: list[str] = []
    arms = {"before": Scripted("b", before, sent), "after": Scripted("a", after, sent)}
    pairs = Pairs()
    measure_pairs(arms, QUERY, pairs, most, 0.05)  # type: ignore[arg-type]
    return pairs, sent


@pytest.mark.parametrize(
    ("before", "after", "of_a_pair"),
    [
        ([100.0], [100.0], 2),  # slow statements: one run each
        ([50.0], [51.0], 2),
        ([25.0], [25.0], 3 * 2),
        ([10.0], [10.0], 7 * 2),
        ([2.0], [2.1], 29 * 2),
        ([0.01], [0.01], 101 * 2),  # the quickest: no more than this
        ([100.0], [10.0], 1 + 1),  # much quicker, but long enough
        ([100.0], [0.1], 1 + 100),  # so quick that it is repeated within its couple
        ([20.0], [2.0], 3 * (1 + 5)),
    ],
)
def test_quick_statements_are_run_in_many_couples(
    before: list[float], after: list[float], of_a_pair: int
) -> None:
    short, long = measured(before, after, 3)[1], measured(before, after, 4)[1]
    assert len(long) - len(short) == of_a_pair


def test_sides_take_turns_in_going_first() -> None:
    _, sent = measured([100.0], [100.0], 6)
    assert "".join(sent[-12:]) == "baabbaabbaab"
    _, sent = measured([20.0], [20.0], 6)
    assert "".join(sent[-36:]) == "baab" * 9


def test_one_disturbed_couple_of_a_pair_does_not_count_and_no_pair_is_dropped() -> None:
    # One warm-up run each of a statement this slow; then three couples to a pair.
    pairs, _ = measured([20.0, 20.0, 500.0, 20.0], [24.0], 8)
    assert pairs.whole() == ([20.0] * len(pairs), [24.0] * len(pairs))
    slow, _ = measured([100.0, 100.0, 500.0], [120.0], 6)
    assert sorted(slow.before) == [100.0] * 4 + [500.0] * 2, "outliers among pairs are kept"


@pytest.fixture
def sleeper() -> Iterator[int]:
    """A process of our own."""
    with subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"]) as process:
        yield process.pid
        process.kill()


@pytest.mark.skipif(not hasattr(os, "sched_setaffinity"), reason="not on this operating system")
def test_processes_share_a_processor_and_are_let_go(sleeper: int) -> None:
    free = os.sched_getaffinity(sleeper)
    place = OneProcessor((sleeper,))
    seen = set()
    for _ in range(64):
        place.move()
        (here,) = os.sched_getaffinity(sleeper)
        seen.add(here)
    assert place.holds and seen <= free
    assert len(free) == 1 or len(seen) > 1, "another one now and then"
    place.release()
    assert os.sched_getaffinity(sleeper) == free and not place.holds


def test_without_processes_or_leave_everything_stays_where_it_is(sleeper: int) -> None:
    assert not OneProcessor(()).holds
    place = OneProcessor((sleeper, 2**22 + 7))
    place.move()
    assert not place.holds
    assert len(os.sched_getaffinity(sleeper)) == len(os.sched_getaffinity(0))
