"""The ids that stand within entries: of queries in a remedy, in a trial of plans, too."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from humble_ledger.core.remedies.model import Remedy
from humble_ledger.core.replays.model import Replay
from humble_ledger.core.trials.model import QueryTrial, Side, Trial

Renamed = Callable[[str], str]
"""The new id of an old one; "" of one that is not there."""


def renamed_remedy(remedy: Remedy, new: Renamed) -> Remedy:
    """A remedy whose queries have other ids; what it says of those that are not there goes."""
    overhead = remedy.write_overhead
    return replace(
        remedy,
        predictions=tuple(
            replace(each, query=new(each.query)) for each in remedy.predictions if new(each.query)
        ),
        queries=tuple(new(query) for query in remedy.queries if new(query)),
        write_overhead=replace(
            overhead,
            ends_in_page=tuple(new(query) for query in overhead.ends_in_page if new(query)),
        ),
    )


def renamed_trial(trial: Trial, new: Renamed) -> Trial:
    """A trial with other ids for its remedies, queries and plans."""
    return replace(
        trial,
        remedies=tuple(new(id_) for id_ in trial.remedies),
        queries=tuple(_query(each, new) for each in trial.queries),
        failed=tuple((new(query) or query, why) for query, why in trial.failed),
        parts=tuple(
            replace(each, remedy=new(each.remedy), query=new(each.query)) for each in trial.parts
        ),
        predicted=tuple(replace(each, query=new(each.query)) for each in trial.predicted),
    )


def renamed_replay(replay: Replay, new: Renamed) -> Replay:
    """A replay with other ids for its queries and remedies."""
    return replace(
        replay,
        remedies=tuple(new(id_) for id_ in replay.remedies),
        phases=tuple(
            replace(
                phase, queries=tuple((new(query) or query, each) for query, each in phase.queries)
            )
            for phase in replay.phases
        ),
    )


def ids_of(trial: Trial) -> set[str]:
    """Every id that a trial names."""
    sides = [s for q in trial.queries for each in q.sets() for s in (each.before, each.after)]
    return {
        *trial.remedies,
        *(side.plan for side in sides if side.plan),
        *(query.query for query in trial.queries),
        *(each.query for each in trial.predicted),
        *(each.query for each in trial.parts),
    }


def _query(query: QueryTrial, new: Renamed) -> QueryTrial:
    return replace(
        query,
        query=new(query.query),
        before=_side(query.before, new),
        after=_side(query.after, new),
        others=tuple(_query(each, new) for each in query.others),
    )


def _side(side: Side, new: Renamed) -> Side:
    return replace(side, plan=new(side.plan) if side.plan else "")
