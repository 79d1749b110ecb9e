"""All remedies for some queries, or for all that were captured and for the schema."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from statistics import median

from humble_ledger.core.entries import RemedyEntry
from humble_ledger.core.messages import Told, message
from humble_ledger.core.remedies.choice.choosing import pick
from humble_ledger.core.remedies.choice.model import Option, Problem, Weighed
from humble_ledger.core.remedies.choice.superfluous import made_superfluous
from humble_ledger.core.remedies.choice.worth import CLEAR_GAIN, Priced, worth_trying
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.model import Remedy, RemedyType
from humble_ledger.core.remedies.ordering import in_order, saving
from humble_ledger.core.results.proposals import Proposals, Together
from humble_ledger.workflow.progress import Progress, Stop, stopping
from humble_ledger.workflow.proposing.indexes import IndexRemedies, Pool
from humble_ledger.workflow.proposing.schema import of_schema
from humble_ledger.workflow.proposing.studying import Studied
from humble_ledger.workflow.supposing.predictors import PredictWith
from humble_ledger.workflow.workspace import Workspace

MOST_PER_QUERY = 3
MORE_THAN_ONE = 2


def propose(
    workspace: Workspace,
    whats: Sequence[str] = (),
    progress: Progress = lambda _: None,
    types: Collection[RemedyType] = tuple(RemedyType),
    wish: PredictWith | None = None,
) -> Proposals:
    """Changes that should help the subjects (all captured queries when none is named).

    Each candidate index is predicted for every one of the queries. Those that together save
    most are proposed, and with them what the symptoms of the plans call for, in the order of
    the captured time that each should save. For named subjects, other indexes that are not
    beaten by a smaller one are given as alternatives; when none is named, the schema is
    looked at, too. Ctrl-C ends it with what is predicted so far.
    """
    with stopping(progress) as stop:
        return _proposed(workspace, whats, progress, types, wish, stop)


def _proposed(
    workspace: Workspace,
    whats: Sequence[str],
    progress: Progress,
    types: Collection[RemedyType],
    wish: PredictWith | None,
    stop: Stop,
) -> Proposals:
    pool = Pool.of(workspace, whats, progress, wish, stop, types)
    studied = pool.studied
    making = IndexRemedies.of(workspace, pool)
    weights = _weights(studied, named=bool(whats))
    saved: list[tuple[float, Remedy]] = []
    others: list[Remedy] = []
    hidden = 0
    if RemedyType.INDEX in types:
        # Of a query that is named, a little may be wanted, too.
        best, rest = _best_indexes(pool, weights, making.handful if not whats else _nothing)
        saved += [(adds, making.remedy(one)) for adds, one in best]
        most = MOST_PER_QUERY * len(whats)
        others = [making.remedy(one) for one in rest[:most]]
        hidden = len(rest) - len(others)
    saved += [(saving(o, weights), o) for each in studied for o in each.others]
    found = in_order(saved)
    designs = {remedy.index for remedy in found if remedy.index is not None}
    if not whats and not stop.asked:
        progress("looking at the schema")
        found += of_schema(workspace, making, designs)
    plans = {each.query: each.plan.plan for each in studied}
    told = [remedy.removal.name for remedy in found if remedy.removal is not None]
    first = [remedy.index for remedy in found if remedy.index is not None]
    found += made_superfluous(
        first, pool.tables.values(), plans, told, dialect=workspace.engine.dialect
    )
    kept = _kept(workspace, [remedy for remedy in found if remedy.type in types])
    cautions = (*_together(pool, first), *pool.predictor.cautions)
    refused = tuple(each for one in studied for each in one.refused)
    if RemedyType.REWRITE not in types:
        refused = ()
    return Proposals(
        kept,
        _kept(workspace, others),
        hidden,
        pool.left_out,
        pool.declined,
        cautions,
        refused,
        stop.asked,
        tuple(_taken_together(pool, kept)),
        tuple(each.query for each in studied),
    )


def _together(pool: Pool, designs: Sequence[IndexDesign]) -> Iterator[Told]:
    """The queries that would be clearly dearer with all these indexes than they are now."""
    if len(designs) < MORE_THAN_ONE or pool.stop.asked:
        return
    for each in pool.studied:
        told = pool.outlook(each.query, frozenset(designs)).prediction(each.query)
        if told.harms:
            yield message(
                "all-together-dearer",
                query=each.query,
                predicted=told.cost_predicted,
                before=told.cost_before,
            )


def _taken_together(pool: Pool, kept: Sequence[RemedyEntry]) -> Iterator[Together]:
    """The queries that several of the indexes at once make clearly cheaper than the best alone."""
    ids = {e.remedy.index: e.id for e in kept if e.remedy.index is not None}
    for each in pool.studied if not pool.stop.asked else ():
        alone = [
            p.cost_predicted
            for e in kept
            if e.remedy.index is not None
            for p in e.remedy.predictions
            if p.query == each.query
        ]
        told = pool.outlook(each.query, frozenset(ids))
        taken = {one.design for one in told.used}
        used = [number for design, number in ids.items() if design in taken]
        if len(used) >= MORE_THAN_ONE and alone and CLEAR_GAIN * told.cost <= min(alone):
            yield Together(each.query, tuple(used), told.cost_before, told.cost, told.way)


def _kept(workspace: Workspace, remedies: Sequence[Remedy]) -> tuple[RemedyEntry, ...]:
    entries = [workspace.ledger.remedies.keep(remedy) for remedy in remedies]
    return tuple({entry.id: entry for entry in entries}.values())


def _nothing(_: IndexDesign) -> float:
    return 0.0


def _best_indexes(
    pool: Pool, weights: Mapping[str, float], least: Callable[[IndexDesign], float]
) -> tuple[list[tuple[float, Priced]], list[Priced]]:
    """The indexes that together save most, with what each adds, and others that are good too.

    Each saves at least ``least``, in the server's cost units, in a run of one of the queries.
    """
    useful = pool.priced()
    priced = {p.design: p for p in useful if not pool.needless(p)}
    pool.prime(priced)
    problem = Problem(
        queries=tuple(
            Weighed(each.query, cost * weights.get(each.query, 1.0), cost)
            for each in pool.studied
            if (cost := each.plan.plan.cost_total)
        ),
        options=tuple(
            Option(p.design, p.size_bytes, least=least(p.design), beside=p.beside)
            for p in priced.values()
        ),
        cost_of=pool.cost,
    )
    best = [(each.adds, priced[each.option.design]) for each in pick(problem)[0]]
    chosen = {one.design for _, one in best}
    # What serves only with others stands in nobody's place, and beats nobody by itself.
    alone = [one for one in useful if not one.beside]
    return best, [one for one in worth_trying(alone, weights) if one.design not in chosen]


def _weights(studied: Sequence[Studied], *, named: bool) -> Mapping[str, float]:
    """What a unit of each query's cost stands for, in ms of captured time (else one each).

    Somebody who names a statement wants to know of it, though no time of it was captured: it
    counts like the others.
    """
    if not any(each.weight_ms for each in studied):
        return {each.query: 1.0 for each in studied}
    found = {
        each.query: each.weight_ms / each.plan.plan.cost_total
        for each in studied
        if each.plan.plan.cost_total
    }
    typical = median(weight for weight in found.values() if weight) if any(found.values()) else 1.0
    return {query: weight or (typical if named else 0.0) for query, weight in found.items()}
