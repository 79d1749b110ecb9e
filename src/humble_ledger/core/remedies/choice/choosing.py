"""A choice under a budget, with the reasons for what was chosen and what was not."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.core.messages import Message, message
from humble_ledger.core.remedies.choice.model import (
    Choice,
    CurvePoint,
    Effect,
    LeftOut,
    Option,
    Picked,
    Problem,
    size_of,
)
from humble_ledger.core.remedies.choice.searching import (
    best_set,
    path_of_growth,
    upper_bound,
)
from humble_ledger.core.remedies.choice.worth import (
    AS_GOOD_AS,
    CLEAR_GAIN,
    LITTLE,
    SAME_SIZE,
    special,
)
from humble_ledger.core.remedies.design import IndexDesign

OF_ALL = 0.01  # of all weight: an index that saves so much is worth it, however little each run
UNNOTICED = 0.0005  # of a query's cost: so much less is worth no larger index
NOT_WORTH_IT = 0.02  # of the cost of every query it serves: less is not worth an index


def pick(problem: Problem) -> tuple[list[Picked], bool]:
    """The best set found, and whether every set was compared.

    An index that adds next to nothing beside the others is left out.
    """
    found, complete = best_set(problem)
    # A lighter index in one place may leave another one idle.
    chosen = _without_idle(problem, _lighter(problem, _without_idle(problem, list(found))))
    chosen = _worth_their_room(problem, chosen)
    picked = [_picked(problem, chosen, option) for option in chosen]
    return sorted(picked, key=lambda p: -p.adds), complete


def choose(problem: Problem) -> Choice:
    """The best set found, what it does, and why the others were left out."""
    picked, complete = pick(problem)
    chosen = [each.option for each in picked]
    saved = problem.gain([o.design for o in chosen])
    bound = upper_bound(problem)
    left = [o for o in problem.options if o not in chosen]
    return Choice(
        picked=tuple(picked),
        left_out=tuple(sorted(_left_out(problem, chosen, left), key=lambda each: -each.alone)),
        effects=tuple(_effects(problem, chosen)),
        curve=tuple(CurvePoint(size, gain, d) for d, size, gain in path_of_growth(problem)),
        weight=sum(q.weight for q in problem.queries),
        saved=saved,
        extra_writes=problem.extra_writes(chosen),
        complete=complete,
        at_least=1.0 if complete or bound <= 0 else min(1.0, saved / bound),
    )


def _without_idle(problem: Problem, chosen: list[Option]) -> list[Option]:
    """Drop, the largest first, what no query would miss, compared with having all of it."""
    everything = frozenset(o.design for o in chosen)
    for option in sorted(chosen, key=lambda o: -o.size_bytes):
        rest = frozenset(o.design for o in chosen if o is not option)
        if not _missed(problem, option, rest, everything):
            chosen = [o for o in chosen if o is not option]
    return chosen


def _missed(
    problem: Problem, option: Option, rest: frozenset[IndexDesign], whole: frozenset[IndexDesign]
) -> bool:
    """Whether the queries would miss an index, by their costs with the rest and with all.

    Beside the others it must make one query as clearly cheaper as an index by itself must. What it
    saves less counts where it is a good part of all, since queries are sent often or are many. A
    query of next to no cost misses none otherwise, whatever part of it is saved.
    """
    weight = 0.0
    for query in problem.served([option.design]):
        without, with_it = (problem.cost(query.query, designs) for designs in (rest, whole))
        saved = without - with_it
        if saved <= NOT_WORTH_IT * query.cost:
            continue
        if saved >= option.least and without >= CLEAR_GAIN * with_it:
            return True
        weight += query.weight * saved / query.cost
    return weight >= OF_ALL * sum(q.weight for q in problem.queries)


def _worth_their_room(problem: Problem, chosen: list[Option]) -> list[Option]:
    """Drop what adds less than asked for, the least first: others may then add more."""
    least = problem.least_gain * sum(q.weight for q in problem.queries)
    while chosen and least > 0:
        adds = {option: _adds(problem, chosen, option) for option in chosen}
        weakest = min(chosen, key=lambda o: adds[o])
        if adds[weakest] >= least:
            break
        chosen = [o for o in chosen if o is not weakest]
    return chosen


def _adds(problem: Problem, chosen: Sequence[Option], option: Option) -> float:
    """What would be lost without this one of the chosen."""
    everything = frozenset(o.design for o in chosen)
    return problem.change(everything - {option.design}, everything)


def _lighter(problem: Problem, chosen: list[Option]) -> list[Option]:
    """Put a clearly smaller index in place of one that is hardly better for any query."""
    for option in sorted(chosen, key=lambda o: -o.size_bytes):
        rest = frozenset(o.design for o in chosen if o is not option)
        now = rest | {option.design}
        queries = problem.served([option.design])
        smaller = [
            o for o in problem.options
            if o.design.table == option.design.table and o.design not in now
            and o.size_bytes * SAME_SIZE < option.size_bytes
            and all(
                problem.cost(q.query, rest | {o.design})
                <= AS_GOOD_AS * problem.cost(q.query, now) + _allowed(option, o) * q.cost
                for q in queries
            )
        ]  # fmt: skip
        if smaller:
            best = min(smaller, key=lambda o: o.size_bytes)
            chosen = [best if o is option else o for o in chosen]
    return chosen


def _allowed(option: Option, smaller: Option) -> float:
    """What is made for one query alone must save a good part of its cost.

    And any other more than nobody would notice.
    """
    return LITTLE if special(option.design) > special(smaller.design) else UNNOTICED


def _picked(problem: Problem, chosen: Sequence[Option], option: Option) -> Picked:
    rest = frozenset(o.design for o in chosen if o is not option)
    everything = rest | {option.design}
    served = [
        q.query for q in problem.served([option.design])
        if problem.cost(q.query, everything) < 0.999 * problem.cost(q.query, rest)
    ]  # fmt: skip
    return Picked(option, _adds(problem, chosen, option), tuple(served))


def _effects(problem: Problem, chosen: Sequence[Option]) -> list[Effect]:
    designs = frozenset(o.design for o in chosen)
    effects = []
    for q in problem.queries:
        after = problem.cost(q.query, designs)
        using = tuple(o.design for o in chosen if _used_for(problem, chosen, o, q.query))
        effects.append(Effect(q.query, q.weight, q.cost, after, using))
    return effects


def _left_out(problem: Problem, chosen: Sequence[Option], left: Sequence[Option]) -> list[LeftOut]:
    designs = [o.design for o in chosen]
    now = problem.gain(designs)
    found = []
    for option in left:
        alone = problem.gain([option.design])
        adds = problem.gain([*designs, option.design]) - now
        if alone > 0:
            found.append(LeftOut(option, alone, adds, _why(problem, chosen, option, adds)))
    return found


def _why(problem: Problem, chosen: Sequence[Option], option: Option, adds: float) -> Message:
    served = [
        q for q in problem.served([option.design])
        if problem.cost(q.query, frozenset([option.design])) < (1 - NOT_WORTH_IT) * q.cost
    ]  # fmt: skip
    worth = sum(q.weight for q in served) * NOT_WORTH_IT
    if adds <= worth or not served:
        names = [q.query for q in served]
        others = [
            o.design for o in chosen
            if any(_used_for(problem, chosen, o, q) for q in names)
        ]  # fmt: skip
        if others:
            indexes = [design.words for design in others[:2]]
            return message("served-by-chosen", queries=names[:4], indexes=indexes)
        return message("no-query-clearly-cheaper")
    if adds < problem.least_gain * sum(q.weight for q in problem.queries):
        return message("too-little-gain", saves=adds, unit=problem.unit)
    return _no_room(problem, chosen, option, adds)


def _used_for(problem: Problem, chosen: Sequence[Option], option: Option, query: str) -> bool:
    """Whether the query would be clearly dearer without this one of the chosen."""
    if not problem.matters(option.design, query):
        return False
    designs = frozenset(o.design for o in chosen)
    return problem.cost(query, designs - {option.design}) > 1.001 * problem.cost(query, designs)


def _no_room(problem: Problem, chosen: Sequence[Option], option: Option, adds: float) -> Message:
    gain = message("would-save-more", saves=adds, unit=problem.unit)
    budget = problem.budget
    size = budget.room_bytes
    if size is not None and option.size_bytes > size:
        return message("more-than-budget", size_bytes=option.size_bytes)
    if size is not None and size_of([*chosen, option]) > size:
        room = size - size_of(chosen)
        return message("takes-too-much", gain=gain, size_bytes=option.size_bytes, left_bytes=room)
    if budget.indexes is not None and len(chosen) >= budget.indexes:
        return message("one-index-too-many", gain=gain)
    if budget.extra_writes is not None and problem.extra_writes([*chosen, option]) > (
        budget.extra_writes
    ):
        return message(
            "writes-grow-too-much", gain=gain, by=problem.extra_writes([*chosen, option])
        )
    return message("no-room-found", gain=gain)
