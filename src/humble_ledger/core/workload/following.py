"""A statement that is followed while it runs: how far each of its steps is, look by look."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from humble_ledger.core.plans.arithmetic import expected_loops
from humble_ledger.core.plans.model import Node, Plan

_WHOLE = 100.0


@dataclass(frozen=True, slots=True)
class Done:
    """How much of something is done, by the server's own count; ``of`` is None where unknown."""

    what: str
    done: float
    of: float | None = None

    @property
    def words(self) -> str:
        """As a sentence has it: "building index: scanning table, blocks 120 of 4,000"."""
        if self.of:
            return f"{self.what} {self.done:,.0f} of {self.of:,.0f}"
        return f"{self.what} {self.done:,.0f}"


@dataclass(frozen=True, slots=True)
class Look:
    """One look: after how many ms of its run, rows that came from each step by its number, and
    what the server itself tells of how far it is.
    """

    elapsed_ms: float
    rows: Mapping[int, float] = field(default_factory=dict)
    done: tuple[Done, ...] = ()


def rows_so_far(plan: Plan) -> dict[int, float]:
    """The rows that came from each step, over all its loops; without those that did not begin."""
    found = {}
    for node in plan.nodes():
        if node.rows_seen is not None and node.loops:
            found[node.no] = node.rows_seen * node.loops
    return found


def rows_to_come(plan: Plan) -> dict[int, float]:
    """The rows that the planner expects each step to give in all its loops, by its number."""
    found: dict[int, float] = {}

    def walk(node: Node, times: float) -> None:
        if node.rows_expected is not None:
            found[node.no] = node.rows_expected * times
        for child in node.children:
            walk(child, times * expected_loops(node, child))

    walk(plan.root, 1.0)
    return found


def percent_of(rows: float, expected: float | None) -> float | None:
    """How far a step is, in percent; None where nothing was expected, or more came already."""
    if not expected or rows > expected:
        return None
    return _WHOLE * rows / expected
