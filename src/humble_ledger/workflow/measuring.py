"""Measuring queries on the two arms of an experiment, pair after pair, until it is clear."""

from __future__ import annotations

import statistics
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.statements.conditions import orders_rows
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.trials.model import QueryTrial, Side, Verdict
from humble_ledger.core.trials.ratio import (
    estimate_only,
    rate_at,
    ratio_interval,
    running_order,
)
from humble_ledger.core.trials.results import ResultComparison, compare_results, fingerprint_rows
from humble_ledger.core.trials.verdicts import final_verdict, judge_time
from humble_ledger.engines.contract import Arm, Experiment, Outcome, PlanDocument
from humble_ledger.workflow.reading import keep_plan
from humble_ledger.workflow.workspace import Workspace

QUICK_MS = 5.0  # a shorter run is repeated, so that the clock's grain and wake-ups weigh less
MOST_REPEATS = 50

Progress = Callable[[str], None]


@dataclass(frozen=True, slots=True)
class TriedQuery:
    """A query of the trial and what to send for it."""

    query: str
    statement: Statement


@dataclass(slots=True)
class _Pairs:
    """Paired runs of one query, in milliseconds."""

    before: list[float] = field(default_factory=list)
    after: list[float] = field(default_factory=list)

    def __len__(self) -> int:
        return min(len(self.before), len(self.after))

    def whole(self) -> tuple[list[float], list[float]]:
        """The pairs of which both runs were made."""
        return self.before[: len(self)], self.after[: len(self)]


class Measuring:
    """Measures query after query on the two arms, until each is clear or Ctrl-C comes."""

    def __init__(
        self,
        workspace: Workspace,
        experiment: Experiment,
        names: Sequence[str],
        most_pairs: int,
        smallest_effect: float,
    ) -> None:
        self._workspace = workspace
        self._experiment = experiment
        self._names = names
        self._most_pairs = most_pairs
        self._smallest_effect = smallest_effect
        self.interrupted = False

    def query(self, tried: TriedQuery, progress: Progress) -> QueryTrial | None:
        """One query's trial; None when Ctrl-C came before anything was measured."""
        if self.interrupted:
            return None
        arms = {"before": self._experiment.before, "after": self._experiment.after}
        pairs = _Pairs()
        try:
            progress(f"{tried.query}: first runs")
            cold = {side: arm.run(tried.statement) for side, arm in arms.items()}
            compared = self._compare_results(tried, arms)
            documents = {
                side: arm.explain(tried.statement, measure=True) for side, arm in arms.items()
            }
            self._measure_pairs(tried, arms, pairs, progress)
        except KeyboardInterrupt:
            self.interrupted = True
            if len(pairs) == 0:
                return None
        sides = {
            side: self._side(tried, side, document, cold[side], getattr(pairs, side)[: len(pairs)])
            for side, document in documents.items()
        }
        same_plan = same_shape(documents["before"].plan, documents["after"].plan)
        uses = any(documents["after"].plan.uses_index(name) for name in self._names)
        return self._judged(tried.query, pairs, sides, compared, uses, same_plan and not uses)

    def _side(
        self,
        tried: TriedQuery,
        side: str,
        document: PlanDocument,
        cold: Outcome,
        runs: Sequence[float],
    ) -> Side:
        entry = keep_plan(
            self._workspace,
            tried.statement,
            document.plan,
            document.document,
            query=tried.query,
            origin=f"trial-{side}",
        )
        return Side(
            runs_ms=tuple(runs),
            cold_ms=cold.elapsed_ms,
            median_ms=statistics.median(runs),
            cost=document.plan.cost_total,
            pages=document.plan.root.pages,
            rows=cold.rows,
            plan=entry.id,
        )

    def _measure_pairs(
        self, tried: TriedQuery, arms: dict[str, Arm], pairs: _Pairs, progress: Progress
    ) -> None:
        repeats = self._repeats(tried, arms)
        for order in running_order():
            for side in order:
                getattr(pairs, side).append(_timed(arms[side], tried.statement, repeats[side]))
            done = len(pairs)
            running = estimate_only(*pairs.whole())
            progress(
                f"{tried.query}: pair {done} of at most {self._most_pairs}, "
                f"after/before {running:.3f}"
            )
            if done >= self._most_pairs or self._settled(pairs):
                return

    def _settled(self, pairs: _Pairs) -> bool:
        rate = rate_at(len(pairs), self._most_pairs)
        if rate is None:
            return False
        ratio = ratio_interval(*pairs.whole(), rate)
        return judge_time(ratio, self._smallest_effect) is not None

    def _repeats(self, tried: TriedQuery, arms: dict[str, Arm]) -> dict[str, int]:
        """How often each side's run is repeated to last about `QUICK_MS`."""
        counts = {}
        for side, arm in arms.items():
            once = max(arm.run(tried.statement).elapsed_ms, 0.001)
            counts[side] = max(1, min(MOST_REPEATS, round(QUICK_MS / once)))
        return counts

    def _compare_results(self, tried: TriedQuery, arms: dict[str, Arm]) -> ResultComparison:
        prints = {
            side: fingerprint_rows(arm.result_rows(tried.statement)) for side, arm in arms.items()
        }
        ordered = orders_rows(tried.statement.sql)
        return compare_results(prints["before"], prints["after"], ordered)

    def _judged(
        self,
        query: str,
        pairs: _Pairs,
        sides: dict[str, Side],
        compared: ResultComparison,
        uses_change: bool,
        same_plan: bool,
    ) -> QueryTrial:
        # At a look, its rate; when stopped early, what the looks so far have left.
        rate = rate_at(len(pairs), self._most_pairs) or rate_at(len(pairs), len(pairs))
        ratio = ratio_interval(*pairs.whole(), rate) if rate else None
        verdict, reason = final_verdict(
            ratio,
            sides["before"].pages,
            sides["after"].pages,
            same_plan=same_plan,
            smallest_effect=self._smallest_effect,
        )
        if not compared.same:
            verdict, reason = Verdict.UNDECIDED, "the results differ, so times say nothing"
        return QueryTrial(
            query=query,
            verdict=verdict,
            reason=reason,
            before=sides["before"],
            after=sides["after"],
            ratio=ratio,
            same_result=compared.same,
            result_note=compared.reason,
            uses_change=uses_change,
        )


def same_shape(one: Plan, other: Plan) -> bool:
    """Whether two plans have the same steps on the same tables by the same indexes."""

    def shape(plan: Plan) -> list[tuple[str, str, str]]:
        return [(n.label, n.alias or n.relation, n.index) for n in plan.nodes()]

    return shape(one) == shape(other)


def _timed(arm: Arm, statement: Statement, repeats: int) -> float:
    """One recorded run in milliseconds: the median of so many repeats, one after another."""
    return statistics.median(arm.run(statement).elapsed_ms for _ in range(repeats))
