"""Measuring queries on the two arms of an experiment, pair after pair, until it is clear."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import replace

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.statements.conditions import orders_rows
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.statements.ordering import order_asked
from humble_ledger.core.trials.differences import MOST_ROWS, explain_difference
from humble_ledger.core.trials.model import QueryTrial, Side, Verdict
from humble_ledger.core.trials.ratio import rate_at, ratio_interval
from humble_ledger.core.trials.results import ResultComparison, compare_results, fingerprint_rows
from humble_ledger.core.trials.tried import TriedQuery
from humble_ledger.core.trials.verdicts import final_verdict
from humble_ledger.engines.contract import Arm, Experiment, Outcome, PlanDocument
from humble_ledger.errors import StatementTimedOut
from humble_ledger.workflow.pairing import Pairs, measure_pairs
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.reading import keep_plan
from humble_ledger.workflow.rewritten import RewrittenArm
from humble_ledger.workflow.workspace import Workspace


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
        hidden: Sequence[str] = (),
    ) -> None:
        """``names`` are the indexes tried, ``rewritten`` what is sent after in place of before.

        ``hidden`` are names of indexes that only the side before can see;
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
        self._hidden = hidden
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
            cold, endless = self._first_runs(tried, arms)
            if endless:
                return self._unended(tried, arms, cold, endless)
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
        # A removal matters to a query whose plan used the index.
        uses = uses or any(documents["before"].plan.uses_index(name) for name in self._hidden)
        uses = uses or self._changes_running or (self._changes_planning and not same_plan)
        return self._judged(tried.query, pairs, sides, compared, uses, same_plan and not uses)

    def _first_runs(
        self, tried: TriedQuery, arms: dict[str, Arm]
    ) -> tuple[dict[str, Outcome], list[str]]:
        """One run on each side, and the sides that did not end within the time limit."""
        cold, endless = {}, []
        for side, arm in arms.items():
            try:
                cold[side] = arm.run(tried.statement)
            except StatementTimedOut:
                cold[side] = Outcome(float(self._workspace.limits.statement_ms), 0)
                endless.append(side)
        return cold, endless

    def _unended(
        self,
        tried: TriedQuery,
        arms: dict[str, Arm],
        cold: dict[str, Outcome],
        endless: Sequence[str],
    ) -> QueryTrial:
        """A side that never ends is a result, too; the other one is run a few times."""
        sides = {}
        limit = float(self._workspace.limits.statement_ms)
        for side, arm in arms.items():
            ends = side not in endless
            runs = [arm.run(tried.statement).elapsed_ms for _ in range(3)] if ends else [limit]
            document = arm.explain(tried.statement, measure=ends)
            found = self._side(tried, side, document, cold[side], runs)
            sides[side] = found if ends else replace(found, timed_out=True, runs_ms=())
        seconds = f"{limit / 1000:g} s"
        if len(endless) == 2:
            verdict, reason = Verdict.UNDECIDED, f"neither side ended within {seconds}"
        elif endless == ["before"]:
            verdict = Verdict.FASTER
            reason = f"before the change it did not end within {seconds}, with it it does"
        else:
            verdict = Verdict.SLOWER
            reason = f"with the change it does not end within {seconds}, before it did"
        return QueryTrial(
            query=tried.query,
            verdict=verdict,
            reason=reason,
            before=sides["before"],
            after=sides["after"],
            ratio=None,
            same_result=None,
            result_note="not compared, as one side never ended",
            uses_change=True,
        )

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
        compared = compare_results(prints["before"], prints["after"], ordered)
        if compared.same or max(p.rows for p in prints.values()) > MOST_ROWS:
            return compared
        rows = {side: list(arm.result_rows(tried.statement)) for side, arm in arms.items()}
        return explain_difference(
            rows["before"],
            rows["after"],
            order_asked(tried.statement.sql),
            show=not self._workspace.configuration.mask,
        )

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
