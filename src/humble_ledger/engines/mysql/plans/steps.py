"""Steps of a plan while it is put together, and the neutral tree that they become."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

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

DEEPEST = 400


@dataclass(slots=True)
class Step:
    """A step with the figures of one loop of it; times, pages and rows are None where unknown.

    ``cost`` and ``ms`` count all below it. ``rows`` are as the server expects them, ``priced`` as
    a sample tells it where the server knows nothing: costs are reckoned with these, and in a plan
    that was not measured they are shown. ``added`` is the part of the cost that the server leaves
    out and does not expect. ``more`` are further fields of `Node`.
    """

    operation: Operation
    label: str
    children: list[Step] = field(default_factory=list)
    role: Role = Role.OUTER
    cost: float | None = None
    added: float = 0.0
    startup: float = 0.0
    rows: float | None = None
    priced: float | None = None
    seen: float | None = None
    loops: float | None = None
    ms: float | None = None
    first_ms: float | None = None
    pages: int | None = None
    search: tuple[str, ...] = ()
    filter: tuple[str, ...] = ()
    join: tuple[str, ...] = ()
    discarded: Discarded = field(default=Discarded())
    memory: Memory | None = None
    details: dict[str, Any] = field(default_factory=dict)
    more: dict[str, Any] = field(default_factory=dict)

    def below(self, role: Role, child: Step) -> None:
        """Hang a step below this one."""
        child.role = role
        self.children.append(child)

    def rows_priced(self) -> float | None:
        """The rows that costs are reckoned with."""
        return self.rows if self.priced is None else self.priced

    def total_ms(self) -> float | None:
        """Milliseconds of all loops together; None where it is not known."""
        return None if self.ms is None else self.ms * (self.loops or 0.0)

    def total_pages(self) -> int | None:
        """Pages of this step and all below it; None where the server tells none of them."""
        known = [self.pages, *(child.total_pages() for child in self.children)]
        return None if all(each is None for each in known) else sum(each or 0 for each in known)


def over(
    operation: Operation, label: str, child: Step, *, role: Role = Role.OUTER, **more: Any
) -> Step:
    """A step above one other, with the figures of that."""
    child.role = role
    return Step(
        operation,
        label,
        [child],
        cost=child.cost,
        startup=child.startup,
        rows=child.rows,
        priced=child.priced,
        seen=child.seen,
        loops=child.loops,
        ms=child.ms,
        more=more,
    )


def fill_costs(root: Step) -> None:
    """Give steps of which the server tells no cost that of what is below them.

    Where it tells none at all, none is given.
    """
    if _any_cost(root):
        _filled(root)


def _any_cost(step: Step) -> bool:
    return step.cost is not None or any(_any_cost(child) for child in step.children)


def _filled(step: Step) -> float:
    below = [_filled(child) for child in step.children if child.role is not Role.SUBPLAN]
    for child in step.children:
        if child.role is Role.SUBPLAN:
            _filled(child)
    if step.cost is None:
        turns = 1.0
        if step.operation is Operation.NESTED_LOOP and len(below) > 1:
            turns = max(1.0, step.children[0].rows_priced() or 1.0)
            inner = [child for child in step.children if child.role is not Role.SUBPLAN][1:]
            below = [
                below[0],
                *(
                    each * (1.0 if child.operation is Operation.MATERIALIZE else turns)
                    for child, each in zip(inner, below[1:], strict=True)
                ),
            ]
        step.cost = sum(below)
    return step.cost


def tree(root: Step, measured: bool) -> Node:
    """The neutral tree, its steps numbered in the order of the text.

    Raises:
        ValueError: it is nested deeper than anybody reads.
    """
    numbers = iter(range(1, 1_000_000))
    return _node(root, numbers, measured, 0)


def _node(step: Step, numbers: Iterator[int], measured: bool, depth: int) -> Node:
    if depth > DEEPEST:
        raise ValueError(f"more than {DEEPEST} steps below each other")
    number = next(numbers)
    children = tuple(_node(each, numbers, measured, depth + 1) for each in step.children)
    if not step.more.get("output"):
        # A step hands on what it gets; what a sub-query gives is its own.
        given = (c.output for c in children if c.role in (Role.OUTER, Role.INNER, Role.MEMBER))
        step.more["output"] = tuple(dict.fromkeys(text for each in given for text in each))
    # In a plan that was measured, a step of which nothing is told never had a turn.
    loops = (step.loops or 0.0) if measured else None
    pages = step.total_pages() if measured else None
    ran = bool(loops)
    return Node(
        number,
        step.operation,
        step.label,
        role=step.role,
        cost=None if step.cost is None else Cost(min(step.startup, step.cost), step.cost),
        rows_expected=step.rows if measured else step.rows_priced(),
        rows_seen=step.seen if loops is not None else None,
        loops=loops,
        elapsed=Elapsed(step.first_ms or 0.0, step.ms) if ran and step.ms is not None else None,
        discarded=step.discarded if ran else Discarded(),
        pages=None if pages is None else Pages(cached=pages),
        conditions=Conditions(
            search=tuple(c for c in step.search if c),
            filter=tuple(c for c in step.filter if c),
            join=tuple(c for c in step.join if c),
        ),
        memory=step.memory if measured else None,
        details=step.details,
        children=children,
        **step.more,
    )
