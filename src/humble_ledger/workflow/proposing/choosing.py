"""The indexes for a whole workload under a budget, as remedies and as a choice explained."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.core.remedies.choice.choosing import choose
from humble_ledger.core.remedies.choice.model import (
    Budget,
    Option,
    Problem,
    Weighed,
)
from humble_ledger.core.remedies.choice.superfluous import made_superfluous
from humble_ledger.core.remedies.model import RemedyType
from humble_ledger.core.remedies.write_overhead import entries_now
from humble_ledger.core.results.proposals import ChosenIndexes
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.proposing.indexes import IndexRemedies, Pool, writers_of
from humble_ledger.workflow.supposing.predictors import PredictWith
from humble_ledger.workflow.workspace import Workspace


def choose_indexes(
    workspace: Workspace,
    whats: Sequence[str],
    budget: Budget,
    progress: Progress = lambda _: None,
    wish: PredictWith | None = None,
) -> ChosenIndexes:
    """The indexes that together save most of the captured time within a budget; all are kept."""
    pool = Pool.of(workspace, whats, progress, wish)
    studied = pool.studied
    making = IndexRemedies.of(workspace, pool)
    priced = {p.design: p for p in pool.priced(merging=True) if not pool.needless(p)}
    rewrites = [o for each in studied for o in each.others if o.type is RemedyType.REWRITE]
    timed = any(each.weight_ms for each in studied)
    touched = {design.table for design in priced}
    pool.prime(priced)
    problem = Problem(
        queries=tuple(
            Weighed(
                each.query,
                each.weight_ms if timed else each.plan.plan.cost_total or 0.0,
                each.plan.plan.cost_total or 0.0,
            )
            for each in studied
        ),
        options=tuple(
            Option(p.design, p.size_bytes, p.reason, making.extra_entries(p))
            for p in priced.values()
        ),
        cost_of=pool.cost,
        budget=budget,
        unit="ms" if timed else "of the cost",
        entries_now=sum(entries_now(pool.tables[name]) for name in touched),
    )
    progress("choosing")
    choice = choose(problem)
    remedies = {}
    for each in choice.picked:
        remedy = making.remedy(priced[each.option.design])
        remedies[each.option.design] = workspace.ledger.remedies.keep(remedy)
    plans = {each.query: each.plan.plan for each in studied}
    removals = made_superfluous(remedies, pool.tables.values(), plans)
    return ChosenIndexes(
        choice,
        budget,
        remedies,
        tuple(workspace.ledger.remedies.keep(remedy) for remedy in removals),
        writers_of(workspace, {design.table for design in remedies}),
        timed,
        tuple(workspace.ledger.remedies.keep(remedy) for remedy in rewrites),
        pool.left_out,
        pool.declined,
        tuple(pool.predictor.cautions),
    )
