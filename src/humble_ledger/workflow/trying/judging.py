"""From runs of a query on both sides to its entry in the trial."""

from __future__ import annotations

import statistics
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

from humble_ledger.core.messages import message
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.plans.tables import table_accounts, whole_work
from humble_ledger.core.remedies.model import RemedyType
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.trials.model import QueryTrial, Side, Verdict
from humble_ledger.core.trials.ratio import RatioInterval
from humble_ledger.core.trials.results import ResultComparison
from humble_ledger.core.trials.tried import TriedQuery
from humble_ledger.core.trials.verdicts import final_verdict
from humble_ledger.engines.contract import IndexBuild, Outcome, PlanDocument
from humble_ledger.workflow.reading.plans import keep_plan
from humble_ledger.workflow.trying.making import Making
from humble_ledger.workflow.workspace import Workspace


@dataclass(frozen=True, slots=True)
class Judging:
    """Keeps the plans of a trial and judges its queries."""

    workspace: Workspace
    making: Making
    smallest_effect: float
    builds: Callable[[], Sequence[IndexBuild]] = tuple

    def side(
        self,
        tried: TriedQuery,
        sent: Statement,
        side: str,
        document: PlanDocument,
        cold: Outcome,
        runs: Sequence[float],
    ) -> Side:
        """One side of a query; ``sent`` is what was run there, ``runs`` in milliseconds."""
        plan = document.plan
        entry = keep_plan(
            self.workspace,
            sent,
            plan,
            document.document,
            query=tried.query,
            origin=f"trial-{side}",
        )
        return Side(
            runs_ms=tuple(runs),
            cold_ms=cold.elapsed_ms,
            median_ms=statistics.median(runs),
            cost=plan.cost_total,
            pages=plan.root.pages,
            rows=cold.rows,
            plan=entry.id,
            table_pages=table_pages(plan),
            planning_ms=plan.planning_ms,
            work_ms=whole_work(plan).work_ms,
        )

    def judged(
        self,
        tried: TriedQuery,
        ratio: RatioInterval | None,
        sides: Mapping[str, Side],
        documents: Mapping[str, PlanDocument],
        compared: ResultComparison,
    ) -> QueryTrial:
        """A query's verdict, with its reason."""
        before, after = documents["before"].plan, documents["after"].plan
        same_plan = same_shape(before, after)
        uses = self._used(before, after, same_plan=same_plan)
        verdict, reason = final_verdict(
            ratio,
            sides["before"].pages,
            sides["after"].pages,
            same_plan=same_plan and not uses,
            smallest_effect=self.smallest_effect,
        )
        if not compared.same:
            verdict, reason = Verdict.UNDECIDED, message("times-say-nothing")
        return QueryTrial(
            query=tried.query,
            verdict=verdict,
            reason=reason,
            before=sides["before"],
            after=sides["after"],
            ratio=ratio,
            same_result=compared.same,
            result_note=compared.reason,
            uses_change=uses,
            values=tried.values,
            supposed=tried.supposed,
        )

    def unended(
        self, tried: TriedQuery, sides: Mapping[str, Side], endless: Sequence[str]
    ) -> QueryTrial:
        """A query of which one side, or both, did not end within the time limit."""
        limit_ms = self.workspace.limits.statement_ms
        if len(endless) == 2:
            verdict, reason = Verdict.UNDECIDED, message("neither-side-ended", limit_ms=limit_ms)
        elif "before" in endless:
            verdict, reason = Verdict.FASTER, message("ends-with-change", limit_ms=limit_ms)
        else:
            verdict, reason = Verdict.SLOWER, message("ends-without-change", limit_ms=limit_ms)
        ended = {
            name: replace(side, timed_out=True, runs_ms=()) if name in endless else side
            for name, side in sides.items()
        }
        return QueryTrial(
            query=tried.query,
            verdict=verdict,
            reason=reason,
            before=ended["before"],
            after=ended["after"],
            ratio=None,
            same_result=None,
            result_note="not compared, as one side never ended",
            uses_change=True,
            values=tried.values,
            supposed=tried.supposed,
        )

    def _used(self, before: Plan, after: Plan, *, same_plan: bool) -> bool:
        making = self.making
        parts = [name for build in self.builds() for name in build.parts]
        uses = any(after.uses_index(name) for name in (*making.names, *parts))
        # A removal matters to a query whose plan used the index.
        uses = uses or any(before.uses_index(name) for name in making.hidden)
        by_planning = RemedyType.STATISTICS in making.types and not same_plan
        return uses or making.used_anyway or by_planning


def table_pages(plan: Plan) -> tuple[tuple[str, int], ...]:
    """The pages touched of each table with its indexes, the most first; () when not measured."""
    found = [
        (str(each.name), (each.pages_cached or 0) + (each.pages_read or 0))
        for each in table_accounts(plan)
        if each.pages_cached is not None
    ]
    return tuple(sorted(found, key=lambda each: -each[1]))


def same_shape(one: Plan, other: Plan) -> bool:
    """Whether two plans have the same steps on the same tables by the same indexes."""

    def shape(plan: Plan) -> list[tuple[str, str, str]]:
        return [(n.label, n.alias or n.relation, n.index) for n in plan.nodes()]

    return shape(one) == shape(other)


def folded(queries: Sequence[QueryTrial]) -> list[QueryTrial]:
    """Each query once, with its further sets of values inside the first."""
    found: dict[str, QueryTrial] = {}
    for each in queries:
        first = found.get(each.query)
        found[each.query] = each if first is None else _with(first, each)
    return list(found.values())


def _with(first: QueryTrial, other: QueryTrial) -> QueryTrial:
    """A query with one more set of values: what is worse there counts for the whole."""
    whole = replace(first, others=(*first.others, other))
    if other.same_result is False and first.same_result is not False:
        reason = f"with {other.values} the results differ"
        return replace(whole, verdict=Verdict.UNDECIDED, reason=reason)
    if other.supposed:
        return whole
    for verdict in (Verdict.SLOWER, Verdict.HEAVIER):
        if other.verdict is verdict and first.verdict is not Verdict.SLOWER:
            return replace(whole, verdict=verdict, reason=f"it is, with {other.values}")
    return whole
