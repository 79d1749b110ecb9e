"""One source of a plan: how it is read, how many rows come of it, and what that costs."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from humble_ledger.core.costs.model import IndexShape, Search
from humble_ledger.core.schema.facts import TableFacts
from humble_ledger.engines.sqlite.costs import (
    CALL,
    DESCENT,
    OPERATOR,
    PAGE,
    PARSING,
    ROW,
    SqliteCosts,
)
from humble_ledger.engines.sqlite.plans.blocks import Block, Condition
from humble_ledger.engines.sqlite.plans.drafts import Draft, node
from humble_ledger.engines.sqlite.plans.knowledge import Knowledge
from humble_ledger.engines.sqlite.plans.listing import Kind, Line
from humble_ledger.engines.sqlite.plans.names import Names
from humble_ledger.engines.sqlite.schema import ROWID, Table

COSTS = SqliteCosts()
_CALLS = re.compile(r"\b(?!ANY\b|IN\b|AND\b|OR\b|NOT\b|AS\b)[A-Za-z_]\w*\(")
_JSON = re.compile(r"\bJSON\w*\(|->", re.IGNORECASE)
AUTOMATIC = "AUTOMATIC INDEX"
_RANGE_SHARE = 0.25  # of the rows for a bound whose value is not known, as the planner takes it
_LIST = 25.0  # values of a sub-query, as the planner takes it


@dataclass(slots=True)
class Reads:
    """The steps that read sources; ``sources`` are queries computed by themselves, by name."""

    knowledge: Knowledge
    names: Names
    sources: dict[str, Draft] = field(default_factory=dict)

    def read(
        self,
        read: Line,
        alias: str,
        blocks: Sequence[Block],
        mine: Sequence[Condition],
        loops: float,
        *,
        first: bool,
    ) -> tuple[Draft, list[Condition]]:
        """The step that reads a source, and the conditions that its loop tests beside it."""
        source = next((b.sources[alias] for b in blocks if alias in b.sources), None)
        facts = self.knowledge.facts(source.name if isinstance(source, Table) else alias)
        if read.kind is Kind.CONSTANT:
            return node("result", read.said, cost=ROW, rows=1.0), []
        if not isinstance(source, Table) and (alias in self.sources or source is not None):
            return self._derived(read, alias, mine, first=first)
        if facts is None:
            return self._unknown(read, alias, mine), []
        if read.kind is Kind.EITHER:
            return self._either(read, alias, facts, mine), []
        own = [c for c in mine if c.aliases <= {alias}]
        tied = [c for c in mine if not c.aliases <= {alias}]
        if read.automatic:
            return self._automatic(read, alias, facts, own, tied)
        search = _searched(read, alias, facts, mine)
        filters = [c for c in own if c not in search]
        beside = [c for c in tied if c not in search]
        if first:  # what it is tied to stands outside of the query that it is in
            filters, beside = filters + beside, []
        here = [c for c in beside if c.subqueries]
        filters, beside = filters + here, [c for c in beside if c not in here]
        draft = self._table_step(read, alias, facts, search, filters, loops)
        return draft, beside

    def _table_step(
        self,
        read: Line,
        alias: str,
        facts: TableFacts,
        search: Sequence[Condition],
        filters: Sequence[Condition],
        loops: float,
    ) -> Draft:
        name, share = facts.name.name, self.knowledge.share
        constant = [c for c in search if c.aliases <= {alias}]
        led = share(name, alias, constant)
        for each in search:
            if each not in constant:
                led *= self._led_by(name, alias, each)
        visited = facts.rows * led
        unique = self.knowledge.unique(name, read.index) if read.index else None
        equal = sum(operator == "=" for _, operator in read.terms)
        if (read.by_rowid and equal) or (unique is not None and equal >= unique):
            visited = min(visited, max([_values_in(c) for c in search] or [1.0]))
        own = [c for c in filters if c.aliases <= {alias}]
        both = share(name, alias, [*constant, *own])
        kept = visited * min(1.0, both / max(share(name, alias, constant), 1e-12))
        for each in filters:
            if each not in own and not each.subqueries:
                kept *= self.joined_share(each)
        return node(
            _operation(read), read.said.partition(" ")[0],
            relation=name, alias=alias, index=_index_name(read, facts),
            cost=self._cost(read, facts, search, filters, visited, loops),
            rows=kept, visited=visited,
            search=[c.text for c in search], filter=[c.text for c in filters],
            output=self.names.columns(alias),
        )  # fmt: skip

    def _led_by(self, table: str, alias: str, condition: Condition) -> float:
        """The part of the rows that one value from elsewhere leads to."""
        column = next((c for a, c in condition.columns if a == alias and c), "")
        if not column or condition.operator not in ("=", "in"):
            return _RANGE_SHARE
        each = 1.0 / max(1.0, self.knowledge.distinct(table, column))
        return min(1.0, each * (_LIST if "= ANY (" in condition.text else 1.0))

    def _cost(
        self,
        read: Line,
        facts: TableFacts,
        search: Sequence[Condition],
        filters: Sequence[Condition],
        visited: float,
        loops: float,
    ) -> float:
        rows = max(facts.rows, 1.0)
        share = min(1.0, visited / rows)
        tested = _tests(filters)
        tests = visited * OPERATOR * tested
        searches = max([_values_in(c) for c in search] or [1.0])
        for column, operator in read.terms:
            if operator == "any":  # skipped: once for each of its values
                searches *= self.knowledge.distinct(facts.name.name, column)
        if read.kind is Kind.SEARCH and (read.by_rowid or read.by_primary_key):
            levels = 3.0 if facts.pages > 500 else 2.0 if facts.pages > 2 else 1.0
            if any(operator == "=" for _, operator in read.terms):
                found = COSTS.lookups(facts, max(visited, 1.0), 0.0, loops)
                return searches * (levels + 1) * DESCENT + found + tests
            return levels * DESCENT + share * facts.pages * PAGE + visited * ROW + tests
        shape = self.knowledge.shape(facts.name.name, read.index) if read.index else None
        if shape is None:
            return COSTS.full_scan(facts, tested)
        leading = self._leading(facts, read.index)
        correlation = COSTS.correlation(
            leading, len(self.knowledge.keys(facts.name.name, read.index))
        )
        part = min(1.0, visited / max(1.0, shape.entries))
        asked = Search(
            part, part, max(1, len(search)), round(tested), round(max(1.0, searches)), loops
        )
        return COSTS.index_scan(facts, shape, asked, correlation, read.covering).total

    def _leading(self, facts: TableFacts, index: str) -> Any:
        keys = self.knowledge.keys(facts.name.name, index)
        return facts.columns.get(keys[0]) if keys else None

    def _either(
        self, read: Line, alias: str, facts: TableFacts, mine: Sequence[Condition]
    ) -> Draft:
        """Rows that one of several indexes leads to, each once."""
        name = facts.name.name
        choice = [c for c in mine if c.operator == "or"][:1]
        rest = [c for c in mine if c not in choice]
        kept = facts.rows * self.knowledge.share(
            name, alias, [c for c in mine if c.aliases <= {alias}]
        )
        visited = facts.rows * self.knowledge.share(name, alias, choice)
        parts = [
            each for part in read.below
            for each in ([part] if part.kind is Kind.SEARCH else part.below)
            if each.kind in (Kind.SEARCH, Kind.SCAN)
        ]  # fmt: skip
        children, cost = [], 0.0
        for each in parts:
            shape = self.knowledge.shape(name, each.index) or IndexShape(1, 1, facts.rows)
            found = visited / max(1, len(parts))
            cost += COSTS.walk(found / max(1.0, shape.entries) * shape.pages, found, shape.levels)
            children.append(
                node(
                    "bitmap_index",
                    each.said.partition(" ")[0],
                    index=_index_name(each, facts),
                    cost=cost,
                    rows=found,
                    search=[
                        f"({alias}.{_own(column, facts)} {operator} ?)"
                        for column, operator in each.terms
                    ],
                )
            )
        cost += COSTS.lookups(facts, visited, 0.0, 1.0)
        return node(
            "bitmap_scan", read.said, relation=name, alias=alias, cost=cost, rows=kept,
            visited=visited, filter=[c.text for c in [*choice, *rest]], children=children,
            output=self.names.columns(alias),
        )  # fmt: skip

    def _automatic(
        self,
        read: Line,
        alias: str,
        facts: TableFacts,
        own: Sequence[Condition],
        tied: Sequence[Condition],
    ) -> tuple[Draft, list[Condition]]:
        """A table read whole into an index that lasts for this run only."""
        name = facts.name.name
        scan = node(
            "full_scan", "SCAN", relation=name, alias=alias,
            cost=COSTS.full_scan(facts, _tests(own)),
            rows=facts.rows * self.knowledge.share(name, alias, own), visited=facts.rows,
            filter=[c.text for c in own], output=self.names.columns(alias),
        )  # fmt: skip
        searched = _searched(read, alias, facts, tied)
        match = 1.0
        for each in searched:
            match *= self._led_by(name, alias, each)
        built = node(
            "hash", AUTOMATIC, cost=scan["cost"] + COSTS.sort(scan["rows"], 0),
            rows=scan["rows"], children=[scan], hashed=[c.text for c in searched], match=match,
            output=self.names.columns(alias),
        )  # fmt: skip
        return built, [c for c in tied if c not in searched]

    def _derived(
        self, read: Line, alias: str, mine: Sequence[Condition], *, first: bool
    ) -> tuple[Draft, list[Condition]]:
        """What a sub-query, view or CTE gave, read as a table."""
        inner = self.sources.pop(alias, None)
        own = [c for c in mine if first or c.aliases <= {alias}]
        tied = [c for c in mine if c not in own]
        rows = inner["rows"] if inner is not None else 1.0
        cost = (inner["cost"] if inner is not None else 0.0) + rows * (ROW + OPERATOR * len(own))
        kept = max(1.0, rows * _RANGE_SHARE ** len(own))
        words = {"alias": alias, "filter": [c.text for c in own]}
        if read.automatic:
            built = node(
                "hash", AUTOMATIC, cost=cost + COSTS.sort(rows, 0), rows=kept,
                children=[inner] if inner else [], hashed=[c.text for c in tied],
                match=1.0 / max(1.0, rows), **words,
            )  # fmt: skip
            return built, []
        draft = node(
            "subquery", read.said.partition(" ")[0], cost=cost, rows=kept,
            children=[inner] if inner else [], **words,
        )  # fmt: skip
        return draft, tied

    def _unknown(self, read: Line, alias: str, mine: Sequence[Condition]) -> Draft:
        """A table that is not in the schema: one of a function, or virtual."""
        operation = "function_scan" if read.virtual else _operation(read)
        return node(
            operation, read.said.partition(" ")[0], relation="" if read.virtual else alias,
            alias=alias, index=read.index, cost=100.0, rows=10.0,
            filter=[c.text for c in mine],
        )  # fmt: skip

    def joined_share(self, condition: Condition) -> float:
        """The part of all pairs of rows that meets a condition on both."""
        if condition.operator not in ("=", "in"):
            return _RANGE_SHARE
        counts = [
            self.knowledge.distinct(table, column)
            for alias, column in condition.columns
            if alias and (table := self.names.table_of(alias)) is not None
        ]
        return 1.0 / max([1.0, *counts])


def _operation(read: Line) -> str:
    if read.kind is Kind.SCAN and not read.index:
        return "full_scan"
    return "index_only_scan" if read.covering else "index_scan"


def _index_name(read: Line, facts: TableFacts) -> str:
    if read.by_rowid:
        return ROWID
    if read.by_primary_key:
        return next((i.name for i in facts.indexes if i.primary), "primary key")
    return read.index


def _own(column: str, facts: TableFacts) -> str:
    """The column that a row's number is another name of."""
    own = next((i.key_columns[0] for i in facts.indexes if i.name == ROWID), column)
    return own if column == ROWID else column


def _searched(
    read: Line, alias: str, facts: TableFacts, mine: Sequence[Condition]
) -> list[Condition]:
    """The conditions that the listing says an index is searched by."""
    found: list[Condition] = []
    for column, operator in read.terms:
        name = _own(column, facts)
        for each in mine:
            if each not in found and _is_term(each, alias, name, operator):
                found.append(each)
                if operator == "=":
                    break
    return found


def _is_term(condition: Condition, alias: str, column: str, operator: str) -> bool:
    turned = {">": "<", "<": ">"}
    for place, (its, name) in enumerate(condition.columns):
        if column != "<expr>" and (its != alias or name.lower() != column.lower()):
            continue
        if column == "<expr>" and its:
            continue
        kind = condition.operator
        if kind in ("=", "in", "null"):
            return operator == "="
        if kind == "like":
            return operator in (">", "<")
        sign = kind[:1]
        return operator == (sign if place == 0 else turned.get(sign, sign))
    return False


def _tests(conditions: Sequence[Condition]) -> float:
    """What testing these takes, as so many plain comparisons."""
    total = 0.0
    for each in conditions:
        calls = len(_CALLS.findall(each.text))
        parsing = len(_JSON.findall(each.text))
        total += 1.0 + (CALL * (calls - parsing) + PARSING * parsing) / OPERATOR
    return total


def _values_in(condition: Condition) -> float:
    """How many values a condition asks for."""
    if condition.operator != "in":
        return _LIST if "= ANY (" in condition.text else 1.0
    return condition.text.count(",") + 1.0
