"""Measuring queries on the two arms of an experiment, pair after pair, until it is clear."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass, replace

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.statements.conditions import orders_rows
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.trials.model import QueryTrial, Side, Verdict
from humble_ledger.core.trials.ratio import rate_at, ratio_interval
from humble_ledger.core.trials.results import ResultComparison, compare_results, fingerprint_rows
from humble_ledger.core.trials.verdicts import final_verdict
from humble_ledger.engines.contract import Arm, Experiment, Outcome, PlanDocument
from humble_ledger.workflow.pairing import Pairs, measure_pairs
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.reading import keep_plan
from humble_ledger.workflow.rewritten import RewrittenArm
from humble_ledger.workflow.workspace import Workspace


@dataclass(frozen=True, slots=True)
class TriedQuery:
    """A query of the trial and what to send for it."""

    query: str
    statement: Statement


class Measuring:
    """Measures query after query on the two arms, until each is clear or Ctrl-C comes."""

    def __init__(
        self,
        workspace: Workspace,
        experiment: Experiment,
        names: Sequence[str],
        most_pairs: int,
        smallest_effect: float,
        *,
        changes_planning: bool = False,
        changes_running: bool = False,
        rewritten: str = "",
        values_from: str = "",
    ) -> None:
        """``names`` are the indexes tried, ``rewritten`` what is sent after in place of before.

        ``values_from`` is a statement whose one row gives the new one's parameters.

        Other changes are used when they change the plan (statistics) or in any case (settings).
        """
        self._workspace = workspace
        self._experiment = experiment
        self._names = names
        self._changes_planning = changes_planning
        self._changes_running = changes_running
        self._rewritten = rewritten
        self._values_from = values_from
        self._most_pairs = most_pairs
        self._smallest_effect = smallest_effect
        self.interrupted = False

    def query(self, tried: TriedQuery, progress: Progress) -> QueryTrial | None:
        """One query's trial; None when Ctrl-C came before anything was measured."""
        if self.interrupted:
            return None
        arms = {"before": self._experiment.before, "after": self._experiment.after}
        if self._rewritten:
            arms["after"] = RewrittenArm(arms["after"], self._after(tried.statement))
        pairs = Pairs()
        try:
            progress(f"{tried.query}: first runs")
            cold = {side: arm.run(tried.statement) for side, arm in arms.items()}
            compared = self._compare_results(tried, arms)
            documents = {
                side: arm.explain(tried.statement, measure=True) for side, arm in arms.items()
            }
            measure_pairs(
                arms,
                tried.statement,
                pairs,
                self._most_pairs,
                self._smallest_effect,
                lambda words: progress(f"{tried.query}: {words}"),
            )
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
        uses = uses or self._changes_running or (self._changes_planning and not same_plan)
        return self._judged(tried.query, pairs, sides, compared, uses, same_plan and not uses)

    def _after(self, given: Statement) -> Statement:
        """What is sent after in place of before, with its values."""
        if not self._values_from:
            return replace(given, sql=self._rewritten)
        rows = iter(self._experiment.before.result_rows(Statement(self._values_from)))
        row = next(rows, ())
        return Statement(self._rewritten, tuple(v.decode() if v is not None else v for v in row))

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
            self._after(tried.statement)
            if side == "after" and self._rewritten
            else tried.statement,
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

    def _compare_results(self, tried: TriedQuery, arms: dict[str, Arm]) -> ResultComparison:
        prints = {
            side: fingerprint_rows(arm.result_rows(tried.statement)) for side, arm in arms.items()
        }
        ordered = orders_rows(tried.statement.sql)
        return compare_results(prints["before"], prints["after"], ordered)

    def _judged(
        self,
        query: str,
        pairs: Pairs,
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
