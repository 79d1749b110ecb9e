"""How an estimate came about: what the planner expects of each condition alone, and together.

Planners multiply: a condition that keeps 2 % and one that keeps 5 % keep 0.1 % together, as
if they had nothing to do with each other. Asked for each condition alone and for all of them,
the planner shows that chain; the rows that really came show where it breaks.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

# Asks the planner: rows it expects to meet all of these conditions.
Ask = Callable[[Sequence[str]], float | None]
MOST_LINKS = 6
SAME = 1.5  # estimates within this factor are the same


@dataclass(frozen=True, slots=True)
class Link:
    """One condition with the rows the planner expects of it alone, and their share."""

    condition: str
    rows: float
    share: float


@dataclass(frozen=True, slots=True)
class Chain:
    """The estimate of one step, taken apart.

    Rows are per loop: ``table_rows`` before any condition, ``together_rows`` what the planner
    expects of all conditions, ``seen_rows`` what came (None when not measured).
    """

    table: str
    table_rows: float
    links: tuple[Link, ...]
    together_rows: float
    seen_rows: float | None

    @property
    def product(self) -> float:
        """The shares multiplied, as if the conditions had nothing to do with each other."""
        return math.prod(link.share for link in self.links)

    @property
    def multiplied(self) -> bool:
        """Whether the planner's estimate is the product of the single ones."""
        rows = max(self.product * self.table_rows, 1.0)
        return len(self.links) > 1 and 1 / SAME <= rows / max(self.together_rows, 1.0) <= SAME

    @property
    def narrowest(self) -> Link:
        """The condition that keeps the fewest rows by the planner's estimate."""
        return min(self.links, key=lambda link: link.rows)


def chain_of(
    table: str,
    table_rows: float,
    conditions: Sequence[str],
    seen_rows: float | None,
    ask: Ask,
) -> Chain | None:
    """The chain of an estimate; None when the planner cannot be asked for every part of it.

    Of more than `MOST_LINKS` conditions none is told: that many figures explain nothing.
    """
    if not conditions or len(conditions) > MOST_LINKS or table_rows <= 0:
        return None
    together = ask(conditions)
    if together is None:
        return None
    links = []
    for condition in conditions:
        rows = together if len(conditions) == 1 else ask([condition])
        if rows is None:
            return None
        links.append(Link(condition, rows, min(1.0, rows / table_rows)))
    return Chain(table, table_rows, tuple(links), together, seen_rows)
