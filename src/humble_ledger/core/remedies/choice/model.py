"""What a choice under a budget is made of, and what it says of itself."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass, field

from humble_ledger.core.messages import Message, Told
from humble_ledger.core.remedies.design import IndexDesign

# Of a budget's bytes. On two schemas that the formulas were not written on, thirty indexes
# together were 1 to 1.5 % larger than predicted.
KEPT_FREE = 0.03


@dataclass(frozen=True, slots=True)
class Budget:
    """What the chosen indexes may take; None where there is no limit.

    ``extra_writes`` is the part by which the entries written for the same changes of rows may
    grow, over all tables together.
    """

    size_bytes: int | None = None
    indexes: int | None = None
    extra_writes: float | None = None

    @property
    def room_bytes(self) -> float | None:
        """What predicted sizes may add up to, so that the built ones keep within the budget."""
        return None if self.size_bytes is None else self.size_bytes * (1.0 - KEPT_FREE)


@dataclass(frozen=True, slots=True)
class Option:
    """One index to choose from: its size, and the entries its table's changes would have cost.

    ``extra_entries`` counts since the server's counters began. ``least`` is the cost that it must
    save in one run of a query, unless that query makes up a good part of all weight. It is of no
    use but ``beside`` some others, which are options, too.
    """

    design: IndexDesign
    size_bytes: int
    reason: Told = ""
    extra_entries: float = 0.0
    least: float = 0.0
    beside: tuple[IndexDesign, ...] = ()

    @property
    def designs(self) -> frozenset[IndexDesign]:
        """The index with those that it needs beside it."""
        return frozenset((self.design, *self.beside))


@dataclass(frozen=True, slots=True)
class Weighed:
    """One query to be served: how much it counts, and its cost as it is.

    Weights are of one kind for all queries of a problem; see `choice.weights`.
    """

    query: str
    weight: float
    cost: float


_HELPS = 0.999  # of a query's cost is left, at most
CostOf = Callable[[str, frozenset[IndexDesign]], float]
"""The predicted cost of a query with a set of indexes."""


@dataclass(slots=True)
class Problem:
    """Queries, options, a budget; ``entries_now`` are written for the same changes already.

    ``unit`` is that of the queries' weights, for the reasons that are told. Only an option that
    helps or harms a query by itself, or beside those it needs, is taken to matter to it. An index
    must add ``least_gain`` of all weight, beside the others, to be worth its room.
    """

    queries: tuple[Weighed, ...]
    options: tuple[Option, ...]
    cost_of: CostOf
    budget: Budget = field(default=Budget())
    entries_now: float = 0.0
    unit: str = "ms"
    least_gain: float = 0.0
    _served: dict[IndexDesign, list[Weighed]] = field(default_factory=dict)
    _matter: dict[str, frozenset[IndexDesign]] = field(default_factory=dict)
    _costs: dict[tuple[str, frozenset[IndexDesign]], float] = field(default_factory=dict)

    def __post_init__(self) -> None:
        """Find out which options matter to which query."""
        for query in self.queries:
            mattering = dict.fromkeys(
                design
                for o in self.options
                if query.cost > 0
                for cost in (self.cost_of(query.query, o.designs),)
                if cost < _HELPS * query.cost or cost > query.cost / _HELPS
                for design in sorted(o.designs, key=lambda d: d != o.design)
            )
            self._matter[query.query] = frozenset(mattering)
            for design in mattering:
                self._served.setdefault(design, []).append(query)

    def cost(self, query: str, designs: frozenset[IndexDesign]) -> float:
        """The predicted cost of a query with these indexes."""
        key = (query, designs & self._matter.get(query, frozenset()))
        if key not in self._costs:
            self._costs[key] = self.cost_of(*key)
        return self._costs[key]

    def matters(self, design: IndexDesign, query: str) -> bool:
        """Whether an option changes a query's cost by itself."""
        return design in self._matter.get(query, frozenset())

    def helps(self, option: Option) -> bool:
        """Whether any query is cheaper with this one alone, or beside those it needs."""
        alone = option.designs
        return any(self.cost(q.query, alone) < q.cost for q in self.served(alone))

    def served(self, designs: Iterable[IndexDesign]) -> list[Weighed]:
        """The queries to which any of these matters, each once."""
        found = {q.query: q for design in designs for q in self._served.get(design, ())}
        return list(found.values())

    def gain(self, designs: Collection[IndexDesign]) -> float:
        """Weight that these indexes should save, if it follows the cost."""
        return self.change(frozenset(), frozenset(designs))

    def change(self, before: frozenset[IndexDesign], after: frozenset[IndexDesign]) -> float:
        """Weight that is saved by having the one set in place of the other."""
        return sum(
            q.weight * (self.cost(q.query, before) - self.cost(q.query, after)) / q.cost
            for q in self.served(before ^ after)
        )

    def fits(self, options: Collection[Option]) -> bool:
        """Whether these together keep within the budget."""
        budget = self.budget
        if budget.room_bytes is not None and size_of(options) > budget.room_bytes:
            return False
        if budget.indexes is not None and len(options) > budget.indexes:
            return False
        return budget.extra_writes is None or self.extra_writes(options) <= budget.extra_writes

    def extra_writes(self, options: Collection[Option]) -> float:
        """By which part the entries that are written grow."""
        return sum(o.extra_entries for o in options) / max(1.0, self.entries_now)


def size_of(options: Collection[Option]) -> int:
    """Bytes that these indexes take together."""
    return sum(option.size_bytes for option in options)


@dataclass(frozen=True, slots=True)
class Picked:
    """A chosen index, with what it saves beside all others that were chosen."""

    option: Option
    adds: float
    queries: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class LeftOut:
    """An index that was not chosen, what it would save alone and in addition, and why not."""

    option: Option
    alone: float
    adds: float
    why: Message


@dataclass(frozen=True, slots=True)
class Effect:
    """What the chosen indexes do to one query."""

    query: str
    weight: float
    cost_before: float
    cost_after: float
    designs: tuple[IndexDesign, ...] = ()


@dataclass(frozen=True, slots=True)
class CurvePoint:
    """The weight that indexes of so many bytes save, and which one was added last."""

    size_bytes: int
    saved: float
    added: IndexDesign


@dataclass(frozen=True, slots=True)
class Choice:
    """The set of indexes that saves most within a budget, as far as was looked.

    ``complete`` tells that every set was compared; else ``at_least`` is the part of the best
    possible saving that it surely reaches, as long as no two indexes help each other.
    """

    picked: tuple[Picked, ...]
    left_out: tuple[LeftOut, ...]
    effects: tuple[Effect, ...]
    curve: tuple[CurvePoint, ...]
    weight: float
    saved: float
    extra_writes: float
    complete: bool
    at_least: float
