"""Steps while a plan is put together, with the figures as these servers tell them.

Most of them count over all loops of a statement, some tell what a step took by itself, some what
it cost with all its repetitions. `assembled` turns that into what the model has: figures of one
loop, with all below.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from humble_ledger.core.plans.limits import MOST_DEPTH, MOST_STEPS
from humble_ledger.core.plans.model import (
    Conditions,
    Cost,
    Discarded,
    Elapsed,
    Memory,
    Node,
    Operation,
    Pages,
    Role,
)
from humble_ledger.errors import UnreadableInput

# Under this name a step's details tell how many rows a scan is expected to look at.
READ_EXPECTED = "rows_read_expected"
_SERVING_ONCE = (Role.INIT_PLAN, Role.CTE)


@dataclass(slots=True)
class Draft:
    """A step of a plan; None where the document does not tell.

    ``rows`` are expected in one loop, ``rows_read`` those that a scan is expected to look at;
    ``cost`` is of one loop with all below it, ``whole_cost`` over all loops. ``seen``, ``ms``,
    ``discarded`` and ``pages`` are over all loops; ``ms`` and ``pages`` with all below, ``own_ms``
    and ``own_pages`` by the step itself. ``more`` are further fields of `Node`.
    """

    operation: Operation
    label: str
    children: list[Draft] = field(default_factory=list)
    role: Role = Role.OUTER
    rows: float | None = None
    rows_read: float | None = None
    cost: float | None = None
    startup: float = 0.0
    whole_cost: float | None = None
    seen: float | None = None
    loops: float | None = None
    ms: float | None = None
    own_ms: float | None = None
    discarded: float | None = None
    discarded_by_join: float | None = None
    pages: Pages | None = None
    own_pages: Pages | None = None
    search: list[str] = field(default_factory=list)
    filter: list[str] = field(default_factory=list)
    join: list[str] = field(default_factory=list)
    memory: Memory | None = None
    details: dict[str, Any] = field(default_factory=dict)
    remarks: list[str] = field(default_factory=list)
    more: dict[str, Any] = field(default_factory=dict)

    def walk(self) -> Iterator[Draft]:
        """This step and all below it."""
        waiting = [self]
        while waiting:
            one = waiting.pop()
            yield one
            waiting.extend(reversed(one.children))


def inputs(draft: Draft) -> None:
    """Give the children of a join their parts in it, and those of a union theirs."""
    members = (Operation.APPEND, Operation.SET_OPERATION)
    joins = (Operation.NESTED_LOOP, Operation.HASH_JOIN, Operation.MERGE_JOIN)
    plain = [c for c in draft.children if c.role in (Role.OUTER, Role.INNER, Role.MEMBER)]
    for place, child in enumerate(plain):
        if draft.operation in members and len(plain) > 1:
            child.role = Role.MEMBER
        elif draft.operation in joins and place > 0:
            child.role = Role.INNER
        else:
            child.role = Role.OUTER


def with_rows_as_cost(root: Draft) -> None:
    """Costs of our own where a server tells none: the rows that each step handles.

    Handling a row is the one thing that all steps have in common; so shares tell where rows go,
    and no more. A scan handles what it reads, a step above it what comes in and goes out.
    """
    order = list(root.walk())
    if all(draft.rows is None and draft.rows_read is None for draft in order):
        return  # nothing tells where rows go
    for draft in reversed(order):
        below = [child for child in draft.children if child.cost is not None]
        own = draft.rows_read if draft.rows_read is not None else (draft.rows or 0.0)
        if draft.children:
            own = sum(child.rows or 0.0 for child in draft.children)
        draft.cost = own + sum(child.cost or 0.0 for child in below)


def assembled(root: Draft, *, measured: bool) -> Node:
    """The tree of the model, its steps numbered in the order of the text.

    Raises:
        UnreadableInput: it has more steps, or deeper ones, than anybody reads.
    """
    if _depth(root) > MOST_DEPTH:
        raise UnreadableInput(
            f"The steps of this plan are nested more than {MOST_DEPTH} deep.",
            "No server writes such a plan; is the file whole?",
        )
    order = list(root.walk())
    if len(order) > MOST_STEPS:
        raise UnreadableInput(
            f"This plan has {len(order):,} steps; more than {MOST_STEPS:,} are not read.",
            "Is it one plan?",
        )
    for draft in order:
        _price_below(draft)
    for draft in reversed(order):
        _add_up(draft)
        _price_above(draft)
    numbers = iter(range(1, 10_000_000))
    return _node(root, numbers, measured, 1.0, 1.0)


def _depth(root: Draft) -> int:
    deepest, waiting = 0, [(root, 1)]
    while waiting:
        draft, depth = waiting.pop()
        deepest = max(deepest, depth)
        waiting += [(child, depth + 1) for child in draft.children]
    return deepest


def _price_below(draft: Draft) -> None:
    """A step without a cost costs what the one above it does, when that has no other input."""
    plain = [c for c in draft.children if c.role in (Role.OUTER, Role.INNER, Role.MEMBER)]
    if draft.cost is not None and len(plain) == 1 and plain[0].cost is None:
        plain[0].cost = draft.cost if plain[0].whole_cost is None else None


def _price_above(draft: Draft) -> None:
    """A step without a cost costs what its inputs do together."""
    priced = [child for child in draft.children if child.cost is not None]
    if draft.cost is None and draft.whole_cost is None and priced:
        draft.cost = sum((child.cost or 0.0) * _times(draft, child) for child in priced)


def _add_up(draft: Draft) -> None:
    """What is told of the step by itself, with all below it."""
    if draft.ms is None and draft.own_ms is not None:
        draft.ms = draft.own_ms + sum(c.ms or 0.0 for c in draft.children)
    if draft.pages is None and (draft.own_pages or any(c.pages for c in draft.children)):
        parts = [each for each in (draft.own_pages, *(c.pages for c in draft.children)) if each]
        draft.pages = Pages(
            *(
                sum(getattr(p, name) for p in parts)
                for name in ("cached", "read", "dirtied", "written", "temp_read", "temp_written")
            )
        )


def _node(
    draft: Draft, numbers: Iterator[int], measured: bool, repeated: float, spread: float
) -> Node:
    """``repeated`` is how often the step is expected to be run in all, ``spread`` over how many
    processes its loops are.
    """
    number = next(numbers)
    loops = draft.loops if measured else None
    ran = bool(loops)
    children = []
    for child in draft.children:
        times = _times(draft, child)
        wide = _spread(draft, child, spread)
        children.append(_node(child, numbers, measured, repeated * times, wide))
    if draft.rows_read is not None:
        draft.details = {READ_EXPECTED: draft.rows_read, **draft.details}
    cost = draft.cost
    if cost is None and draft.whole_cost is not None:
        cost = draft.whole_cost / repeated
    return Node(
        number,
        draft.operation,
        draft.label,
        role=draft.role,
        cost=None if cost is None else Cost(min(draft.startup, cost), cost),
        rows_expected=draft.rows,
        rows_seen=_each(draft.seen, loops),
        loops=loops,
        elapsed=Elapsed(0.0, draft.ms * spread / loops)
        if ran and loops and draft.ms is not None
        else None,
        discarded=Discarded(
            by_filter=_each(draft.discarded, loops) if ran else None,
            by_join=_each(draft.discarded_by_join, loops) if ran else None,
        ),
        pages=draft.pages if measured else None,
        conditions=Conditions(
            search=tuple(c for c in draft.search if c),
            filter=tuple(c for c in draft.filter if c),
            join=tuple(c for c in draft.join if c),
        ),
        memory=draft.memory,
        details=draft.details,
        remarks=tuple(draft.remarks),
        children=tuple(children),
        **draft.more,
    )


def _each(whole: float | None, loops: float | None) -> float | None:
    """A figure of all loops as one of each; 0 for a step that had no turn."""
    if loops is None:
        return None
    if loops == 0:
        return 0.0
    return None if whole is None else whole / loops


def _times(parent: Draft, child: Draft) -> float:
    """How often a step is expected to be run for each run of the one above, as
    `core.plans.arithmetic.expected_loops` has it.
    """
    inner = parent.operation is Operation.NESTED_LOOP and child.role is Role.INNER
    if not inner or child.operation is Operation.MATERIALIZE:
        return 1.0
    outer = next((c for c in parent.children if c.role is Role.OUTER), None)
    return max(outer.rows or 1.0, 1.0) if outer is not None else 1.0


def _spread(parent: Draft, child: Draft, spread: float) -> float:
    """Over how many processes a step's loops are spread, as `core.plans.arithmetic` has it."""
    if child.role in _SERVING_ONCE:
        return 1.0
    gathers = parent.operation is Operation.GATHER and child.role is not Role.SUBPLAN
    if gathers and parent.loops and child.loops:
        return spread * max(child.loops / parent.loops, 1.0)
    return spread
