"""The indexes for a whole workload under a budget, as remedies and as a choice explained."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from humble_ledger.core.remedies.choice.choosing import choose
from humble_ledger.core.remedies.choice.model import (
    Budget,
    Option,
    Problem,
    Weighed,
)
from humble_ledger.core.remedies.choice.superfluous import made_superfluous
from humble_ledger.core.remedies.choice.weights import Weights, weight_of
from humble_ledger.core.remedies.choice.worth import Priced
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.model import RemedyType
from humble_ledger.core.remedies.write_overhead import entries_now
from humble_ledger.core.results.proposals import ChosenIndexes
from humble_ledger.errors import WrongUsage
from humble_ledger.workflow.progress import Progress, Stop, stopping
from humble_ledger.workflow.proposing.indexes import IndexRemedies, Pool, writers_of
from humble_ledger.workflow.proposing.studying import Studied
from humble_ledger.workflow.supposing.predictors import PredictWith
from humble_ledger.workflow.workspace import Workspace


@dataclass(frozen=True, slots=True)
class Terms:
    """On what terms a set is chosen.

    Queries count by their captured time where there is any, else by their cost, unless
    ``weights`` says otherwise. Each index must add ``least_gain`` (a share) of all weight.
    """

    budget: Budget
    weights: Weights | None = None
    least_gain: float = 0.0


def choose_indexes(
    workspace: Workspace,
    whats: Sequence[str],
    terms: Terms,
    progress: Progress = lambda _: None,
    wish: PredictWith | None = None,
) -> ChosenIndexes:
    """The indexes that together save most within a budget; all are kept.

    Ctrl-C ends the asking: the choice is made among what is predicted so far.

    Raises:
        WrongUsage: weights by time were asked for, and no time was captured.
    """
    with stopping(progress) as stop:
        return _chosen(workspace, whats, terms, progress, wish, stop)


def _chosen(
    workspace: Workspace,
    whats: Sequence[str],
    terms: Terms,
    progress: Progress,
    wish: PredictWith | None,
    stop: Stop,
) -> ChosenIndexes:
    began = time.perf_counter()
    found = to_choose_from(workspace, whats, terms, progress, wish, stop)
    pool, making, studied = found.pool, found.making, found.pool.studied
    rewrites = [o for each in studied for o in each.others if o.type is RemedyType.REWRITE]
    progress("choosing")
    choice = choose(found.problem)
    if stop.asked:  # what was not asked could be better than any bound
        choice = replace(choice, complete=False, at_least=0.0)
    remedies = {}
    for each in choice.picked:
        remedy = making.remedy(found.priced[each.option.design])
        remedies[each.option.design] = workspace.ledger.remedies.keep(remedy)
    plans = {each.query: each.plan.plan for each in studied}
    removals = made_superfluous(
        remedies, pool.tables.values(), plans, dialect=workspace.engine.dialect
    )
    return ChosenIndexes(
        choice,
        terms.budget,
        remedies,
        tuple(workspace.ledger.remedies.keep(remedy) for remedy in removals),
        writers_of(workspace, {design.table for design in remedies}),
        found.weights,
        tuple(workspace.ledger.remedies.keep(remedy) for remedy in rewrites),
        pool.left_out,
        pool.declined,
        tuple(pool.predictor.cautions),
        pool.predictor.plans_asked,
        (time.perf_counter() - began) * 1000.0,
        terms.least_gain,
        stop.asked,
    )


@dataclass(frozen=True, slots=True)
class ToChooseFrom:
    """A problem with what stands behind it: the pool, the makers of remedies, the prices."""

    problem: Problem
    pool: Pool
    making: IndexRemedies
    priced: Mapping[IndexDesign, Priced]
    weights: Weights


def to_choose_from(
    workspace: Workspace,
    whats: Sequence[str],
    terms: Terms,
    progress: Progress = lambda _: None,
    wish: PredictWith | None = None,
    stop: Stop | None = None,
) -> ToChooseFrom:
    """The queries and the candidates among which `choose_indexes` chooses.

    Raises:
        WrongUsage: weights by time were asked for, and no time was captured.
    """
    pool = Pool.of(workspace, whats, progress, wish, stop)
    making = IndexRemedies.of(workspace, pool)
    weights = _weights(pool.studied, terms.weights, named=bool(whats))
    priced = {p.design: p for p in pool.priced(merging=True) if not pool.needless(p)}
    pool.prime(priced)
    touched = {design.table for design in priced}
    problem = Problem(
        queries=tuple(
            Weighed(
                each.query,
                weight_of(weights, time_ms=each.weight_ms, cost=cost, calls=each.calls),
                cost,
            )
            for each in pool.studied
            if (cost := each.plan.plan.cost_total or 0.0) > 0
        ),
        options=tuple(
            Option(p.design, p.size_bytes, p.reason, making.extra_entries(p), beside=p.beside)
            for p in priced.values()
        ),
        cost_of=pool.cost,
        budget=terms.budget,
        unit=weights.unit,
        least_gain=terms.least_gain,
        entries_now=sum(entries_now(pool.tables[name]) for name in touched),
    )
    return ToChooseFrom(problem, pool, making, priced, weights)


def _weights(studied: Sequence[Studied], asked: Weights | None, *, named: bool) -> Weights:
    """By time where it is known, but not where one that was named would then count nothing."""
    timed = any(each.weight_ms for each in studied)
    if asked is Weights.TIME and studied and not timed:
        raise WrongUsage(
            "No time was captured for these queries.", "Use --weigh cost, calls or equally."
        )
    comparable = timed and not (named and any(not each.weight_ms for each in studied))
    return asked or (Weights.TIME if comparable else Weights.COST)
