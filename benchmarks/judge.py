"""The judge: a thing against itself on a real server, and against itself made slower.

Verdicts are counted on time alone, without the rule that equal plans cannot differ.
"""

from __future__ import annotations

from collections import Counter

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.trials.ratio import MOST_PAIRS, rate_at, ratio_interval
from humble_ledger.core.trials.verdicts import SMALLEST_EFFECT, judge_time
from humble_ledger.demo.scenario import build_scenario, scenario_cluster
from humble_ledger.engines.contract import Arm, Change, NewIndex, Outcome
from humble_ledger.engines.postgresql.engine import PostgresEngine
from humble_ledger.engines.postgresql.launcher import find_binaries
from humble_ledger.workflow.trying.pairing import Pairs, measure_pairs

TRIALS = 20  # of each; about six minutes in all
STATEMENTS = {
    "0.02 ms lookup": "SELECT value FROM reading WHERE reading_id = 918273",
    "2 ms scan": "SELECT count(*) FROM visit WHERE minutes > 300",
    "10 ms scan": "SELECT count(*) FROM alert WHERE message LIKE '%abc%'",
}


class Slowed:
    """An arm whose times are made longer by a factor: a difference that is known."""

    def __init__(self, arm: Arm, factor: float) -> None:
        self._arm, self._factor = arm, factor

    def __getattr__(self, name: str) -> object:
        return getattr(self._arm, name)

    def run(self, statement: Statement) -> Outcome:
        found = self._arm.run(statement)
        return Outcome(found.elapsed_ms * self._factor, found.rows)


def verdict(before: Arm, after: Arm, sql: str) -> tuple[str, int]:
    """One trial: its verdict on time, and the pairs it took."""
    pairs = Pairs()
    arms = {"before": before, "after": after}
    measure_pairs(arms, Statement(sql), pairs, MOST_PAIRS, SMALLEST_EFFECT)
    rate = rate_at(len(pairs), MOST_PAIRS)
    assert rate is not None
    found = judge_time(ratio_interval(*pairs.whole(), rate))
    return (found.value if found else "undecided"), len(pairs)


def main() -> None:
    """Run the trials and print how often each verdict came."""
    engine = PostgresEngine()
    build = "CREATE INDEX judge_ix ON region (coast)"
    change = Change((NewIndex("public", "judge_ix", build, build, "DROP INDEX judge_ix"),))
    with scenario_cluster(find_binaries()) as cluster:
        url = build_scenario(cluster)
        for factor in (1.0, 1.1, 2.0):
            for name, sql in STATEMENTS.items():
                words: Counter[str] = Counter()
                taken = []
                for _ in range(TRIALS):
                    with engine.experiment(url, change, "bench") as both:
                        after = both.after if factor == 1.0 else Slowed(both.after, factor)
                        word, pairs = verdict(both.before, after, sql)  # type: ignore[arg-type]
                    words[word] += 1
                    taken.append(pairs)
                listed = ", ".join(f"{word} {count}" for word, count in words.most_common())
                mean = sum(taken) / len(taken)
                print(f"  truly {factor:.1f}×  {name:<15} {listed}   (mean {mean:.0f} pairs)")


if __name__ == "__main__":
    main()
