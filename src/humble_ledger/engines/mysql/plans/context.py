"""What a plan's document tells beside the server's own: names, values, limits and costs.

These servers call a table by its alias, leave out the constants that an index was searched with,
and show neither LIMIT nor a grouping without a temporary table. What the statement says of all
this is kept in the document beside the plan, so that it can be read again without the server.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from humble_ledger.engines.mysql.plans.notation import identifier

UNKNOWN_VALUE = "'?'"


@dataclass(frozen=True, slots=True)
class Block:
    """What one SELECT says beside its tables; ``limit`` is rows, ``offset`` those before them."""

    limit: float | None = None
    offset: float = 0.0
    distinct: bool = False
    group: tuple[str, ...] = ()
    aggregates: bool = False
    correlated: bool = True
    output: tuple[str, ...] = ()  # of one that aggregates all its rows
    ties: tuple[str, ...] = ()  # to the select around it: columns that are equal


@dataclass(frozen=True, slots=True)
class Price:
    """One table of a join order: the cost and rows of reading it, and the cost up to it."""

    table: str
    cost: float
    rows: float
    upto: float


@dataclass(frozen=True, slots=True)
class Context:
    """See above; ``tables`` are aliases with schema and name, ``values`` conditions by column.

    ``shares`` are the parts of its rows that pass a table's filters, where a sample tells it and
    the server does not: without statistics of a column it takes every row to pass; ``wholes`` are
    the rows of all of such a table, and what reading it costs.
    ``materialized`` are the prices of tables that joins read into tables of their own first.
    ``beforehand`` is the index of which an end was read while the plan was made.
    """

    tables: Mapping[str, tuple[str, str]] = field(default_factory=dict)
    values: Mapping[str, str] = field(default_factory=dict)
    columns: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    blocks: Mapping[int, Block] = field(default_factory=dict)
    prices: Mapping[int, Sequence[Price]] = field(default_factory=dict)
    shares: Mapping[str, float] = field(default_factory=dict)
    wholes: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    materialized: Sequence[Price] = ()
    beforehand: str = ""

    def named(self, alias: str) -> dict[str, Any]:
        """A table as the model names it."""
        schema, relation = self.tables.get(alias, ("", alias))
        output = tuple(f"{identifier(alias)}.{identifier(c)}" for c in self.columns.get(alias, ()))
        return {"schema": schema, "relation": relation, "alias": alias, "output": output}

    def search(self, alias: str, columns: Sequence[str], values: Sequence[str]) -> tuple[str, ...]:
        """Conditions of a search of the first columns of an index by these values."""
        found = []
        for column, value in zip(columns, values, strict=False):
            name = f"{identifier(alias)}.{identifier(column)}"
            known = self.values.get(f"{alias}.{column}")
            if value in ("const", "func", ""):
                found.append(known or f"({name} = {UNKNOWN_VALUE})")
            else:
                other = ".".join(identifier(part) for part in value.split(".")[-2:])
                found.append(f"({name} = {other})")
        return tuple(found)


def context_of(document: Mapping[str, Any]) -> Context:
    """The context that stands in a document of ours; empty for the server's own."""
    return Context(
        {a: (str(p[0]), str(p[1])) for a, p in document.get("tables", {}).items()},
        {str(k): str(v) for k, v in document.get("values", {}).items()},
        {str(a): tuple(map(str, c)) for a, c in document.get("columns", {}).items()},
        {int(n): _block(b) for n, b in document.get("blocks", {}).items()},
        {
            int(n): [_price(p) for p in each]
            for n, each in document.get("prices", {}).items()
            if str(n).isdecimal()  # a union's own SELECT is called "fake"
        },
        {str(a): float(share) for a, share in document.get("shares", {}).items()},
        {str(a): (float(rows), float(c)) for a, (rows, c) in document.get("wholes", {}).items()},
        [_price(p) for p in document.get("prices", {}).get("materialized", ())],
        str(document.get("beforehand", "")),
    )


def _price(said: Sequence[Any]) -> Price:
    return Price(str(said[0]), *(float(part) for part in said[1:4]))


def _block(said: Mapping[str, Any]) -> Block:
    limit = said.get("limit")
    return Block(
        None if limit is None else float(limit),
        float(said.get("offset") or 0.0),
        bool(said.get("distinct")),
        tuple(str(key) for key in said.get("group", ())),
        bool(said.get("aggregates")),
        bool(said.get("correlated", True)),
        tuple(str(text) for text in said.get("output", ())),
        tuple(str(text) for text in said.get("ties", ())),
    )
