"""The judge: a thing against itself on a real server, and against itself made slower.

Verdicts are counted on time alone, without the rule that equal plans cannot differ: a thing
against itself while the machine is left alone and while a neighbour is noisy, then with one
side's times made longer by a tenth and by twice. Last, a third as many with each server process
where the system puts it, as on servers of other machines.
"""

from __future__ import annotations

import multiprocessing
import os
import random
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.trials.ratio import MOST_PAIRS, rate_at, ratio_interval
from humble_ledger.core.trials.verdicts import SMALLEST_EFFECT, judge_time
from humble_ledger.demo.scenario import build_scenario, scenario_cluster
from humble_ledger.engines.contract import Arm, Change, NewIndex, Outcome
from humble_ledger.engines.postgresql.engine import PostgresEngine
from humble_ledger.engines.postgresql.launcher import find_binaries
from humble_ledger.workflow.trying.one_processor import OneProcessor
from humble_ledger.workflow.trying.pairing import Pairs, measure_pairs

# Against itself, shared out over the statements, and half as many of the others; 200 take half
# an hour.
TRIALS = int(os.environ.get("HUMBLE_BENCH_TRIALS", "60"))
STATEMENTS = {
    "0.02 ms lookup": "SELECT value FROM reading WHERE reading_id = 918273",
    "2 ms scan": "SELECT count(*) FROM visit WHERE minutes > 300",
    "10 ms scan": "SELECT count(*) FROM alert WHERE message LIKE '%abc%'",
}
SAME = ("no-difference", "undecided")
BUILD = "CREATE INDEX judge_ix ON region (coast)"
CHANGE = Change((NewIndex("public", "judge_ix", BUILD, BUILD, "DROP INDEX judge_ix"),))


class Slowed:
    """An arm whose times are made longer by a factor: a difference that is known."""

    def __init__(self, arm: Arm, factor: float) -> None:
        self._arm, self._factor = arm, factor

    def __getattr__(self, name: str) -> object:
        return getattr(self._arm, name)

    def run(self, statement: Statement) -> Outcome:
        found = self._arm.run(statement)
        return Outcome(found.elapsed_ms * self._factor, found.rows)


def _burst() -> None:
    """A neighbour: bursts of work of 20 to 300 ms, with pauses as long."""
    chance = random.Random(7)
    while True:
        until = time.perf_counter() + chance.uniform(0.02, 0.3)
        while time.perf_counter() < until:
            pass
        time.sleep(chance.uniform(0.02, 0.3))


@contextmanager
def neighbours(count: int) -> Iterator[None]:
    """So many noisy processes beside the trials."""
    processes = [multiprocessing.Process(target=_burst, daemon=True) for _ in range(count)]
    for process in processes:
        process.start()
    try:
        yield
    finally:
        for process in processes:
            process.kill()


def verdict(before: Arm, after: Arm, sql: str, place: OneProcessor) -> tuple[str, int]:
    """One trial: its verdict on time, and the pairs it took."""
    pairs = Pairs()
    arms = {"before": before, "after": after}
    measure_pairs(arms, Statement(sql), pairs, MOST_PAIRS, SMALLEST_EFFECT, move=place.move)
    rate = rate_at(len(pairs), MOST_PAIRS)
    assert rate is not None
    found = judge_time(ratio_interval(*pairs.whole(), rate))
    return (found.value if found else "undecided"), len(pairs)


def trials(url: str, factor: float, count: int, words: str, *, placed: bool = True) -> None:
    """So many trials, and how often each verdict came."""
    engine = PostgresEngine()
    whole: Counter[str] = Counter()
    within_six = 0
    for name, sql in STATEMENTS.items():
        found: Counter[str] = Counter()
        taken = []
        for _ in range(count // len(STATEMENTS)):
            with engine.connect(url, mark="bench").experiment(CHANGE) as both:
                after = both.after if factor == 1.0 else Slowed(both.after, factor)
                place = OneProcessor(both.local_processes() if placed else ())
                assert place.holds is placed
                word, pairs = verdict(both.before, after, sql, place)  # type: ignore[arg-type]
            found[word] += 1
            taken.append(pairs)
            within_six += word == "slower" and pairs <= 6
        whole += found
        listed = ", ".join(f"{word} {n}" for word, n in found.most_common())
        mean = sum(taken) / len(taken)
        print(f"    {name:<15} {listed}   (mean {mean:.0f} pairs)", flush=True)
    right = [whole[w] for w in (SAME if factor == 1.0 else ("slower",))]
    share = sum(right) / whole.total()
    told = f"  {words}: right in {share:.1%} of {whole.total()}"
    print(told + (f", {within_six / whole.total():.1%} within 6 pairs" if factor >= 2 else ""))


def main() -> None:
    """Run the trials of every kind."""
    with scenario_cluster(find_binaries()) as cluster:
        url = build_scenario(cluster)
        for placed, count, where in (
            (True, TRIALS, "both on one processor"),
            (False, TRIALS // 3, "where the system puts them"),
        ):
            trials(url, 1.0, count, f"against itself, quiet, {where}", placed=placed)
            with neighbours(max(1, (os.cpu_count() or 2) // 2)):
                words = f"against itself, with a noisy neighbour, {where}"
                trials(url, 1.0, count, words, placed=placed)
            trials(url, 1.1, count // 2, f"a tenth slower, {where}", placed=placed)
            trials(url, 2.0, count // 2, f"twice as slow, {where}", placed=placed)


if __name__ == "__main__":
    main()
