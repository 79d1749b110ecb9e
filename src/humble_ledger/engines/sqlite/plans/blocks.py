"""A statement taken apart: its blocks, their sources, and the conditions on each."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from sqlglot import exp

from humble_ledger.engines.sqlite.schema import Table

UNNAMED = "(subquery-"  # how plans call a query without a name, with its number behind


@dataclass(frozen=True, slots=True)
class Condition:
    """One part that AND joins to the others.

    ``text`` is in the core's notation, ``own`` in SQLite's; ``aliases`` are the sources it needs,
    in no order. ``columns`` are (alias, column) of the comparison's sides that are bare columns.
    ``subqueries`` are the numbers of those within it, and ``own`` is "" where there are any.
    ``outer`` tells that it stands in the ON of an outer join.
    """

    text: str
    own: str
    aliases: frozenset[str]
    columns: tuple[tuple[str, str], ...]
    operator: str
    subqueries: tuple[int, ...] = ()
    outer: bool = False


@dataclass(slots=True)
class Block:
    """One SELECT (or the part of a change that reads) with its sources.

    A source is a table of the schema, or the query that stands for it (sub-query, view, CTE).
    """

    tree: exp.Expr
    sources: dict[str, Table | exp.Query]
    outer: Block | None
    conditions: list[Condition] = field(default_factory=list)
    claimed: bool = False
    grouped: bool = False

    @property
    def select(self) -> exp.Select | None:
        """The SELECT, None for a change."""
        return self.tree if isinstance(self.tree, exp.Select) else None


@dataclass(frozen=True, slots=True)
class SubQuery:
    """A query within a condition or in what is put out; ``correlated`` with what is around it."""

    tree: exp.Query
    correlated: bool

    def name(self, number: int) -> str:
        """As plans name it: one that is asked once, or again for each row."""
        return f"{'SubPlan' if self.correlated else 'InitPlan'} {number}"


@dataclass(slots=True)
class Reading:
    """A whole statement: its blocks from the outermost inwards."""

    tree: exp.Expr
    blocks: list[Block]
    subqueries: list[SubQuery] = field(default_factory=list)
    resolve: Callable[[exp.Expr, Block], exp.Expr] = lambda part, _: part

    def block_of(self, tree: exp.Expr) -> Block | None:
        """The block of a query: of its first SELECT."""
        wanted = tree
        while isinstance(wanted, exp.SetOperation | exp.Subquery):
            wanted = wanted.this
        return next((each for each in self.blocks if each.tree is wanted), None)
