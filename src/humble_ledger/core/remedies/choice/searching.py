"""The set of indexes that saves most within a budget.

With few options every set is compared. With more, greedy walks begin (by saving, by saving per
byte, and while there are not too many options with each of them as the first); the best are
improved by adding and swapping a few indexes until nothing helps, and the best end is taken. Its
distance from the best set is bounded by the smaller of two figures that no set can exceed: what
all options together save, and what single savings fill the budget when indexes could be cut in
pieces (the relaxed knapsack; it holds as long as no two indexes help each other more than each
alone).
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from itertools import combinations

from humble_ledger.core.remedies.choice.model import Budget, Option, Problem, size_of
from humble_ledger.core.remedies.design import IndexDesign

MOST_TO_COMPARE = 12  # options, up to which every set is compared
MOST_PASSES = 12
MOST_SEEDS = 60  # options, up to which a walk is begun from each
SEEDED_WALKS = 4  # the best of these, which are improved
MOST_MOVES = 40_000
_SAME = 1e-9


def best_set(problem: Problem) -> tuple[tuple[Option, ...], bool]:
    """The chosen options, and whether every set was compared."""
    # What harms one query alone may do it no more beside another index.
    useful = [o for o in problem.options if problem.helps(o) and problem.fits([o])]
    if len(useful) <= MOST_TO_COMPARE:
        return _compared(problem, useful), True
    return searched(problem, useful), False


def searched(problem: Problem, useful: Sequence[Option]) -> tuple[Option, ...]:
    """Greedy walks, each improved; the best of their ends."""

    def saving(chosen: tuple[Option, ...]) -> float:
        return problem.gain(_designs(chosen))

    if problem.budget == Budget():
        return _greedy(problem, useful, _by_gain)  # whatever still adds something is in it
    walks = [_greedy(problem, useful, rank) for rank in (_by_gain, _by_density)]
    if len(useful) <= MOST_SEEDS:
        seeded = [_greedy(problem, useful, _by_density, (seed,)) for seed in useful]
        walks += sorted(seeded, key=saving, reverse=True)[:SEEDED_WALKS]
    ends = [_improved(problem, useful, walk) for walk in dict.fromkeys(walks)]
    return max(ends, key=saving)


def upper_bound(problem: Problem) -> float:
    """A saving that no set within the budget can exceed; see the module."""
    everything = problem.gain([o.design for o in problem.options])
    singles = sorted(
        ((problem.gain(o.designs), o) for o in problem.options if problem.fits([o])),
        key=lambda pair: pair[0] / max(1, pair[1].size_bytes),
        reverse=True,
    )
    filled = 0.0
    if problem.budget.room_bytes is not None:
        room = problem.budget.room_bytes
        for gain, option in singles:
            part = min(1.0, room / max(1, option.size_bytes))
            filled += gain * part
            room -= option.size_bytes * part
            if room <= 0:
                break
        everything = min(everything, filled)
    if problem.budget.indexes is not None:
        best = sorted((gain for gain, _ in singles), reverse=True)[: problem.budget.indexes]
        everything = min(everything, sum(best))
    return everything


def _designs(options: Collection[Option]) -> frozenset[IndexDesign]:
    return frozenset(option.design for option in options)


def _compared(problem: Problem, useful: Sequence[Option]) -> tuple[Option, ...]:
    best: tuple[Option, ...] = ()
    most = (0.0, 0)
    for count in range(1, len(useful) + 1):
        for chosen in combinations(useful, count):
            if problem.fits(chosen):
                # More saving is better; then less room.
                worth = (round(problem.gain(_designs(chosen)), 6), -size_of(chosen))
                if worth > most:
                    best, most = chosen, worth
    return best


_Rank = Callable[[float, Option], float]


def _by_gain(gain: float, _: Option) -> float:
    return gain


def _by_density(gain: float, option: Option) -> float:
    return gain / max(1, option.size_bytes)


def _greedy(
    problem: Problem, useful: Sequence[Option], rank: _Rank, begun: Sequence[Option] = ()
) -> tuple[Option, ...]:
    """The best next one, again and again; what an index adds can only shrink meanwhile."""
    chosen = list(begun)
    now = _designs(begun)
    adds = {o: problem.change(now, now | o.designs) for o in useful if o not in begun}
    while adds:
        fitting = [o for o in adds if problem.fits([*chosen, o])]
        best = max(fitting, key=lambda o: rank(adds[o], o), default=None)
        if best is None or adds[best] <= _SAME:
            break
        together = [best, *(o for o in adds if o.design in best.beside)]
        if not problem.fits([*chosen, *together]):
            del adds[best]
            continue
        chosen += together
        for option in together:
            del adds[option]
        now |= best.designs
        touched = {q.query for q in problem.served(best.designs)}
        for option in adds:
            if touched & {q.query for q in problem.served([option.design])}:
                adds[option] = problem.change(now, now | option.designs)
    return tuple(chosen)


def _improved(
    problem: Problem, useful: Sequence[Option], chosen: tuple[Option, ...]
) -> tuple[Option, ...]:
    """Changes of a few indexes that save more, pass after pass, until none is left."""
    for _ in range(MOST_PASSES):
        before = chosen
        for gone, new in _moves(useful, chosen):
            # An earlier move of this pass may have taken one of these in or out already.
            if not set(gone) <= set(chosen) or set(new) & set(chosen):
                continue
            other = (*(c for c in chosen if c not in gone), *new)
            if not problem.fits(other):
                continue
            if problem.change(_designs(chosen), _designs(other)) > _SAME:
                chosen = other
        if chosen == before:
            break
    return chosen


_Move = tuple[tuple[Option, ...], tuple[Option, ...]]


def _moves(useful: Sequence[Option], chosen: tuple[Option, ...]) -> Iterator[_Move]:
    """(out, in): one in; one for one; and where they are not too many, two for one, one for two."""
    outside = [o for o in useful if o not in set(chosen)]
    for new in outside:
        yield (), (new,)
        for gone in chosen:
            yield (gone,), (new,)
    pairs_in, pairs_out = len(outside) ** 2 // 2, len(chosen) ** 2 // 2
    if pairs_in * len(chosen) + pairs_out * len(outside) <= MOST_MOVES:
        for gone in chosen:
            for both in combinations(outside, 2):
                yield (gone,), both
        for two in combinations(chosen, 2):
            for new in outside:
                yield two, (new,)
                for other in outside:
                    if other is not new and len(outside) <= MOST_TO_COMPARE:
                        yield two, (new, other)


def path_of_growth(problem: Problem) -> list[tuple[IndexDesign, int, float]]:
    """Index after index by saving per byte, without a budget: (design, bytes so far, saved ms)."""
    free = Problem(problem.queries, problem.options, problem.cost_of)
    points, size, chosen = [], 0, list[IndexDesign]()
    for option in _greedy(free, free.options, _by_density):
        chosen.append(option.design)
        size += option.size_bytes
        points.append((option.design, size, free.gain(chosen)))
    return points
