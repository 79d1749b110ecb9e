"""A plan's document from SQLite's listing, the statement, and what is known of its tables.

The library lists what it reads, in which order, by which index, and what it sorts. Rows and costs
it does not tell: these are estimated here, by statistics, a sample of rows, and formulas of
ours. The document holds all of that, so that a plan can be read again without the database.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlglot import exp

from humble_ledger.core.costs.model import IndexShape, Search
from humble_ledger.core.schema.facts import TableFacts
from humble_ledger.engines.sqlite.costs import DESCENT, OPERATOR, PAGE, PASS, ROW, SqliteCosts
from humble_ledger.engines.sqlite.plans.knowledge import Knowledge
from humble_ledger.engines.sqlite.plans.listing import Kind, Line
from humble_ledger.engines.sqlite.plans.statement import Block, Condition, Reading, SubQuery, noted
from humble_ledger.engines.sqlite.schema import Table

Draft = dict[str, Any]
COSTS = SqliteCosts()
_READS = (Kind.SCAN, Kind.SEARCH, Kind.EITHER, Kind.CONSTANT)
_RANGE_SHARE = 0.25  # of the rows for a bound whose value is not known, as the planner takes it
_LIST = 25.0  # values of a sub-query, as the planner takes it
_HEADS = ("UNION ALL", "UNION", "EXCEPT", "INTERSECT")


@dataclass(slots=True)
class Builder:
    """Puts the plan of one statement together."""

    knowledge: Knowledge
    reading: Reading | None
    _sources: dict[str, Draft] = field(default_factory=dict)
    _names: dict[int, int] = field(default_factory=dict)

    def root(self, lines: Sequence[Line]) -> Draft:
        """The whole plan."""
        tree = self.reading.tree if self.reading is not None else None
        top = self.reading.blocks[0] if self.reading is not None and self.reading.blocks else None
        draft = self._group(lines, top, frozenset())
        if isinstance(tree, exp.Insert | exp.Update | exp.Delete):
            target = tree.find(exp.Table)
            rows = draft["rows"] if lines else 1.0
            draft = _node(
                "modify", tree.key.upper(), cost=draft["cost"] + rows * 10, rows=rows,
                relation=self._real_name(target.name) if target is not None else "",
                children=[draft] if lines else [],
            )  # fmt: skip
        return draft

    def _real_name(self, name: str) -> str:
        facts = self.knowledge.facts(name)
        return facts.name.name if facts is not None else name

    def _group(self, lines: Sequence[Line], block: Block | None, around: frozenset[str]) -> Draft:
        """What stands at one level: sources, the loops over them, sub-queries, and sorts."""
        for line in lines:
            if line.kind is Kind.SOURCE:
                self._sources[line.name] = self._source(line)
        compound = next((each for each in lines if each.kind is Kind.COMPOUND), None)
        members = [each for each in lines if each.kind is Kind.MEMBER]
        if compound is not None or members:
            draft = self._compound(compound.below if compound is not None else members, block)
            return self._above(draft, lines, block, [block] if block else [])
        reads = [each for each in lines if each.kind in _READS]
        blocks = self._blocks_of(reads, block)
        draft, pool = self._loops(reads, blocks, around)
        draft = self._with_subqueries(draft, lines, blocks, around, pool)
        return self._above(draft, lines, block or (blocks[0] if blocks else None), blocks)

    def _blocks_of(self, reads: Sequence[Line], block: Block | None) -> list[Block]:
        """The parts of the statement that are read at one level, each of them once."""
        if self.reading is None:
            return []
        found = [block] if block is not None else []
        for read in reads:
            for name in _names_in(read):
                if any(name.lower() in _small(each.sources) for each in found):
                    continue
                other = next(
                    (b for b in self.reading.blocks
                     if not b.claimed and b not in found and name.lower() in _small(b.sources)),
                    None,
                )  # fmt: skip
                if other is not None:
                    found.append(other)
        for each in found:
            each.claimed = True
        return found

    def _source(self, line: Line) -> Draft:
        """A sub-query, view or CTE that is computed by itself."""
        block = None
        if self.reading is not None:
            for each in self.reading.blocks:
                source = next(
                    (s for a, s in each.sources.items() if a.lower() == line.name.lower()), None
                )
                if source is not None and not isinstance(source, Table):
                    block = self.reading.block_of(source)
                    break
        kept = line.said.startswith("MATERIALIZE")
        inner = self._group(line.below, block, frozenset())
        return _node(
            "materialize" if kept else "subquery", line.said, alias=line.name,
            cost=inner["cost"] + inner["rows"] * PASS, rows=inner["rows"], children=[inner],
        )  # fmt: skip

    def _compound(self, members: Sequence[Line], block: Block | None) -> Draft:
        drafts: list[Draft] = []
        operation, label = "append", "UNION ALL"
        for member in members:
            lines = member.below
            head = next((h for h in _HEADS if member.said.startswith(h)), "")
            if head in ("EXCEPT", "INTERSECT", "UNION"):
                operation, label = "set_operation", member.said
            names = [n for each in lines if each.kind in _READS for n in _names_in(each)]
            own = self._unclaimed(names) if drafts else block
            draft = self._group(lines, own, frozenset())
            draft["role"] = "member"
            drafts.append(draft)
        rows = sum(draft["rows"] for draft in drafts)
        cost = sum(draft["cost"] for draft in drafts)
        if operation == "set_operation":
            cost += COSTS.sort(rows, 0)
        return _node(operation, label, cost=cost, rows=rows, children=drafts)

    def _unclaimed(self, names: Sequence[str], correlated: bool | None = None) -> Block | None:
        if self.reading is None:
            return None
        for block in self.reading.blocks:
            if block.claimed or (correlated is not None and block.outer is None):
                continue
            if {name.lower() for name in names} <= _small(block.sources):
                return block
        return None

    # Loops

    def _loops(
        self, reads: Sequence[Line], blocks: Sequence[Block], around: frozenset[str]
    ) -> tuple[Draft, list[Condition]]:
        """One source after the other, each read again for every row of those before it."""
        pool = [c for block in blocks for c in block.conditions]
        claimed = {id(b.tree) for b in blocks}
        pool = [c for c in pool if not self._became_join(c, claimed)]
        seen = set(around)
        whole: Draft | None = None
        for read in reads:
            name = read.name or next(iter(_names_in(read)), "")
            alias = self._alias(name, blocks)
            mine = [
                c for c in pool
                if c.aliases <= seen | {alias} and (alias in c.aliases or not c.aliases - around)
            ]  # fmt: skip
            pool = [c for c in pool if c not in mine]
            loops = max(1.0, whole["rows"]) if whole is not None else 1.0
            inner, join = self._read(read, alias, blocks, mine, loops, seen)
            seen.add(alias)
            whole = inner if whole is None else self._joined(whole, inner, join, read)
        if whole is None:
            whole = _node("result", "NO TABLE", cost=ROW, rows=1.0)
        return whole, pool

    def _became_join(self, condition: Condition, claimed: set[int]) -> bool:
        """Whether the sub-query of a condition is read beside the tables, as a join."""
        if self.reading is None:
            return False
        for number in condition.subqueries:
            block = self.reading.block_of(self.reading.subqueries[number - 1].tree)
            if block is not None and id(block.tree) in claimed:
                return True
        return False

    def _alias(self, name: str, blocks: Sequence[Block]) -> str:
        for block in blocks:
            for alias in block.sources:
                if alias.lower() == name.lower():
                    return alias
        return name

    def _joined(self, outer: Draft, inner: Draft, join: Sequence[Condition], read: Line) -> Draft:
        """A loop over two inputs, or one whose inner side is an index built for this run."""
        inner["role"] = "inner"
        rows = outer["rows"] * inner["rows"]
        for each in join:
            rows *= self._joined_share(each)
        if read.left_join:
            rows = max(rows, outer["rows"])
        common = {
            "join": [c.text for c in join], "rows": rows, "children": [outer, inner],
            "join_type": "Left" if read.left_join else "Inner",
        }  # fmt: skip
        if read.automatic:
            built = inner["cost"]
            probes = outer["rows"] * 4 * DESCENT + rows * (PASS + ROW)
            common["join"] = inner.pop("hashed", []) + common["join"]
            common["rows"] = max(rows * inner.pop("match", 1.0), 1.0)
            return _node(
                "hash_join", "LOOKUP IN AUTOMATIC INDEX",
                cost=outer["cost"] + built + probes, **common,
            )  # fmt: skip
        cost = outer["cost"] + outer["rows"] * inner["cost"]
        cost += outer["rows"] * inner["rows"] * (PASS + OPERATOR * len(join))
        return _node("nested_loop", "NESTED LOOP", cost=cost, **common)

    def _joined_share(self, condition: Condition) -> float:
        """The part of all pairs of rows that meets a condition on both."""
        if condition.operator not in ("=", "in"):
            return _RANGE_SHARE
        counts = [
            self.knowledge.distinct(table, column)
            for alias, column in condition.columns
            if alias and (table := self._table_of(alias)) is not None
        ]
        return 1.0 / max([1.0, *counts])

    def _table_of(self, alias: str) -> str | None:
        if self.reading is None:
            return alias
        for block in self.reading.blocks:
            source = block.sources.get(alias)
            if isinstance(source, Table):
                return source.name
        return None

    # One source

    def _read(
        self,
        read: Line,
        alias: str,
        blocks: Sequence[Block],
        mine: Sequence[Condition],
        loops: float,
        seen: set[str],
    ) -> tuple[Draft, list[Condition]]:
        """The step that reads a source, and the conditions that its loop tests beside it."""
        source = next((b.sources[alias] for b in blocks if alias in b.sources), None)
        facts = self.knowledge.facts(source.name if isinstance(source, Table) else alias)
        if read.kind is Kind.CONSTANT:
            return _node("result", read.said, cost=ROW, rows=1.0), []
        if not isinstance(source, Table) and (alias in self._sources or facts is None):
            return self._derived(read, alias, mine, seen)
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
        if not (seen - {alias}) or not loops or all(c.aliases - seen - {alias} for c in beside):
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
                kept *= self._joined_share(each)
        return _node(
            _operation(read), read.said.partition(" ")[0],
            relation=name, alias=alias, index=_index_name(read, facts),
            cost=self._cost(read, facts, search, filters, visited, loops),
            rows=kept, visited=visited,
            search=[c.text for c in search], filter=[c.text for c in filters],
            output=self._columns(alias),
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
        tests = visited * OPERATOR * len(filters)
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
            return COSTS.full_scan(facts, len(filters))
        leading = self._leading(facts, read.index)
        correlation = COSTS.correlation(
            leading, len(self.knowledge.keys(facts.name.name, read.index))
        )
        part = min(1.0, visited / max(1.0, shape.entries))
        asked = Search(
            part, part, max(1, len(search)), len(filters), round(max(1.0, searches)), loops
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
                _node(
                    "bitmap_index",
                    each.said.partition(" ")[0],
                    index=_index_name(each, facts),
                    cost=cost,
                    rows=found,
                    search=[f"({alias}.{column} {operator} ?)" for column, operator in each.terms],
                )
            )
        cost += COSTS.lookups(facts, visited, 0.0, 1.0)
        return _node(
            "bitmap_scan", read.said, relation=name, alias=alias, cost=cost, rows=kept,
            visited=visited, filter=[c.text for c in [*choice, *rest]], children=children,
            output=self._columns(alias),
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
        scan = _node(
            "full_scan", "SCAN", relation=name, alias=alias,
            cost=COSTS.full_scan(facts, len(own)),
            rows=facts.rows * self.knowledge.share(name, alias, own), visited=facts.rows,
            filter=[c.text for c in own], output=self._columns(alias),
        )  # fmt: skip
        searched = _searched(read, alias, facts, tied)
        match = 1.0
        for each in searched:
            match *= self._led_by(name, alias, each)
        built = _node(
            "hash", "AUTOMATIC INDEX", cost=scan["cost"] + COSTS.sort(scan["rows"], 0),
            rows=scan["rows"], children=[scan], hashed=[c.text for c in searched], match=match,
            output=self._columns(alias),
        )  # fmt: skip
        return built, [c for c in tied if c not in searched]

    def _derived(
        self, read: Line, alias: str, mine: Sequence[Condition], seen: set[str]
    ) -> tuple[Draft, list[Condition]]:
        """What a sub-query, view or CTE gave, read as a table."""
        inner = self._sources.pop(alias, None)
        own = [c for c in mine if c.aliases <= {alias}]
        tied = [c for c in mine if c not in own]
        rows = inner["rows"] if inner is not None else 1.0
        cost = (inner["cost"] if inner is not None else 0.0) + rows * (ROW + OPERATOR * len(own))
        kept = max(1.0, rows * _RANGE_SHARE ** len(own))
        words = {"alias": alias, "filter": [c.text for c in own]}
        if read.automatic:
            built = _node(
                "hash", "AUTOMATIC INDEX", cost=cost + COSTS.sort(rows, 0), rows=kept,
                children=[inner] if inner else [], hashed=[c.text for c in tied],
                match=1.0 / max(1.0, rows), **words,
            )  # fmt: skip
            return built, []
        draft = _node(
            "subquery", read.said.partition(" ")[0], cost=cost, rows=kept,
            children=[inner] if inner else [], **words,
        )  # fmt: skip
        return draft, tied if seen else []

    def _unknown(self, read: Line, alias: str, mine: Sequence[Condition]) -> Draft:
        """A table that is not in the schema: one of a function, or virtual."""
        operation = "function_scan" if read.virtual or not read.index else _operation(read)
        return _node(
            operation, read.said.partition(" ")[0], relation="" if read.virtual else alias,
            alias=alias, index=read.index, cost=100.0, rows=10.0,
            filter=[c.text for c in mine],
        )  # fmt: skip

    # What stands above

    def _with_subqueries(
        self,
        draft: Draft,
        lines: Sequence[Line],
        blocks: Sequence[Block],
        around: frozenset[str],
        pool: Sequence[Condition],
    ) -> Draft:
        """Sub-queries, each below the step that asks for it; the others below the top."""
        outside = frozenset(alias for block in blocks for alias in block.sources) | around
        for line in [each for each in lines if each.kind is Kind.SUBQUERY and each.below]:
            names = [n for each in line.below if each.kind in _READS for n in _names_in(each)]
            block = self._unclaimed(names, correlated=True)
            inner = self._group(line.below, block, outside if line.correlated else frozenset())
            number, known = self._number(block, line)
            inner["role"] = "subplan" if known.correlated or line.correlated else "init-plan"
            name = known.name(number) if line.correlated == known.correlated else (
                f"{'SubPlan' if line.correlated else 'InitPlan'} {number}"
            )  # fmt: skip
            inner["subplan"] = name
            asker = _asking(draft, f"({name})") or draft
            if asker is draft and line.correlated:
                draft.setdefault("output", []).append(f"({name})")
            asker["children"] = [*asker["children"], inner]
            calls = (
                max(1.0, float(asker["visited"] if "visited" in asker else asker["rows"]))
                if line.correlated
                else 1.0
            )
            added = inner["cost"] * calls
            asker["cost"] += added
            if asker is not draft:
                _raise(draft, asker, added)
        return draft

    def _number(self, block: Block | None, line: Line) -> tuple[int, SubQuery]:
        if self.reading is not None and block is not None:
            for number, each in enumerate(self.reading.subqueries, 1):
                if self.reading.block_of(each.tree) is block:
                    return number, each
        known = self.reading.subqueries if self.reading is not None else []
        made = SubQuery(exp.Select(), line.correlated)
        known.append(made)
        return len(known), made

    def _above(
        self,
        draft: Draft,
        lines: Sequence[Line],
        block: Block | None,
        blocks: Sequence[Block],
    ) -> Draft:
        """Groups, distinct values, orders and a limit above the loops."""
        sorts = [each.sort_for for each in lines if each.kind is Kind.SORT]
        select = block.select if block is not None else None
        if select is not None and draft.get("operation") not in ("append", "set_operation"):
            draft = self._grouped(draft, select, block, sorts)
        if any(each.startswith("DISTINCT") for each in sorts):
            keys = self._listed(select.expressions, block) if select is not None else []
            draft = _node(
                "distinct", "USE TEMP B-TREE FOR DISTINCT",
                cost=draft["cost"] + COSTS.sort(draft["rows"], 0), rows=draft["rows"],
                group=keys, by_hash=True, children=[draft],
            )  # fmt: skip
        query = self._query_of(block)
        order = query.args.get("order") if query is not None else None
        for what in [each for each in sorts if "ORDER BY" in each]:
            keys = self._order(order, block) if order is not None and block is not None else []
            part = what.startswith(("LAST", "RIGHT"))
            behind = len(keys) - 1 if what.startswith("LAST") else 0
            cost = COSTS.sort(draft["rows"], 0) * (0.5 if part else 1.0)
            draft = _node(
                "incremental_sort" if part else "sort", f"USE TEMP B-TREE FOR {what}",
                cost=draft["cost"] + cost, rows=draft["rows"], startup=draft["cost"] + cost,
                sort=keys, presorted=keys[:behind], children=[draft],
            )  # fmt: skip
        draft = self._limited(draft, query)
        self._put_out(draft, block, blocks)
        return draft

    def _query_of(self, block: Block | None) -> exp.Expr | None:
        """The SELECT of a block, or the compound that begins with it."""
        tree = block.tree if block is not None else None
        while tree is not None and isinstance(tree.parent, exp.SetOperation):
            if tree.parent.this is not tree:
                break
            tree = tree.parent
        return tree

    def _grouped(
        self, draft: Draft, select: exp.Select, block: Block | None, sorts: Sequence[str]
    ) -> Draft:
        group = select.args.get("group")
        keys = self._listed(group.expressions, block) if group is not None else []
        if any(each.startswith("GROUP BY") for each in sorts):
            cost = draft["cost"] + COSTS.sort(draft["rows"], 0)
            draft = _node(
                "sort", "USE TEMP B-TREE FOR GROUP BY", cost=cost, startup=cost,
                rows=draft["rows"], sort=keys, children=[draft],
            )  # fmt: skip
        having = select.args.get("having")
        called = [
            each for each in select.find_all(exp.AggFunc)
            if each.find_ancestor(exp.Select) is select and each.find_ancestor(exp.Window) is None
        ]  # fmt: skip
        if keys or called:
            groups = (
                self._groups(draft["rows"], group, block) if keys and group is not None else 1.0
            )
            draft = _node(
                "group" if keys and not called else "aggregate",
                "GROUP" if keys else "AGGREGATE",
                cost=draft["cost"] + draft["rows"] * PASS * max(1, len(called)), rows=groups,
                group=keys, children=[draft],
                filter=self._listed([having.this], block) if having is not None else [],
            )  # fmt: skip
        if any(each.find_ancestor(exp.Select) is select for each in select.find_all(exp.Window)):
            draft = _node(
                "window", "WINDOW", cost=draft["cost"] + COSTS.sort(draft["rows"], 0),
                rows=draft["rows"], children=[draft],
            )  # fmt: skip
        return draft

    def _groups(self, rows: float, group: exp.Expr, block: Block | None) -> float:
        found = 1.0
        for each in group.expressions:
            column = self._resolved(each, block)
            table = self._table_of(column.table) if isinstance(column, exp.Column) else None
            found *= self.knowledge.distinct(table, column.name) if table is not None else rows**0.5
        return max(1.0, min(rows, found))

    def _limited(self, draft: Draft, query: exp.Expr | None) -> Draft:
        limit = query.args.get("limit") if query is not None else None
        if limit is None or not isinstance(limit, exp.Limit):
            return draft
        offset = query.args.get("offset") if query is not None else None
        rows = _number_of(limit.expression, 10.0)
        skipped = _number_of(offset.expression, 0.0) if offset is not None else 0.0
        start = draft.get("startup", 0.0)
        part = min(1.0, (rows + skipped) / max(1.0, draft["rows"]))
        return _node(
            "limit", "LIMIT", cost=start + (draft["cost"] - start) * part,
            rows=min(rows, max(0.0, draft["rows"] - skipped)), children=[draft],
        )  # fmt: skip

    def _put_out(self, draft: Draft, block: Block | None, blocks: Sequence[Block]) -> None:
        """What each step above the sources hands on: the columns that are needed further up."""
        select = block.select if block is not None else None
        if select is None:
            return
        aliases = [alias for each in blocks for alias in each.sources]
        columns = [name for alias in aliases for name in self._columns(alias)]
        waiting = [draft]
        while waiting:
            step = waiting.pop()
            if not step.get("relation") and "subplan" not in step:
                step.setdefault("output", []).extend(columns)
                waiting += [c for c in step["children"] if c["role"] in ("outer", "inner")]
        if draft["operation"] == "aggregate" and not draft["group"]:
            draft["output"] = self._listed(select.expressions, block)

    def _columns(self, alias: str) -> list[str]:
        """The columns of a source that the statement names, each with the source's name."""
        if self.reading is None:
            return []
        found: dict[str, None] = {}
        for block in self.reading.blocks:
            for column in block.tree.find_all(exp.Column):
                if isinstance(column.this, exp.Star):
                    if not column.table or column.table.lower() == alias.lower():
                        found |= self._all_of(alias, block)
                    continue
                resolved = self._resolved(column, block)
                for each in resolved.find_all(exp.Column):
                    if each.table == alias:
                        found[_column_words(each)] = None
            select = block.select
            if select is not None and any(isinstance(e, exp.Star) for e in select.expressions):
                found |= self._all_of(alias, block)
        return list(found)

    def _all_of(self, alias: str, block: Block) -> dict[str, None]:
        source = block.sources.get(alias)
        if not isinstance(source, Table):
            return {}
        columns = [exp.column(c.name, table=alias) for c in source.columns if not c.hidden]
        return {_column_words(each): None for each in columns}

    def _resolved(self, part: exp.Expr, block: Block | None) -> exp.Expr:
        if self.reading is None or block is None:
            return part
        return self.reading.resolve(part, block).unnest()

    def _listed(self, parts: Iterable[exp.Expr], block: Block | None) -> list[str]:
        """Expressions in the core's notation; a number stands for what is put out there."""
        select = block.select if block is not None else None
        found = []
        for each in parts:
            bare = each.this if isinstance(each, exp.Alias) else each
            if isinstance(bare, exp.Literal) and bare.is_int and select is not None:
                place = int(bare.name) - 1
                if 0 <= place < len(select.expressions):
                    given = select.expressions[place]
                    bare = given.this if isinstance(given, exp.Alias) else given
            elif isinstance(bare, exp.Column) and not bare.table and select is not None:
                bare = _behind_name(select, bare)
            found.append(noted(self._resolved(bare, block))[1:-1])
        return found

    def _order(self, order: exp.Expr, block: Block) -> list[str]:
        found = []
        for each in order.expressions:
            words = self._listed([each.this], block)[0]
            found.append(words + (" DESC" if each.args.get("desc") else ""))
        return found


def _node(operation: str, label: str, *, cost: float, rows: float, **more: Any) -> Draft:
    return {
        "operation": operation, "label": label, "role": "outer", "cost": cost, "rows": rows,
        "children": [], "group": [], **more,
    }  # fmt: skip


def _behind_name(select: exp.Select, column: exp.Column) -> exp.Expr:
    """What is put out under a name that stands in ORDER BY or GROUP BY."""
    for each in select.expressions:
        if isinstance(each, exp.Alias) and each.alias.lower() == column.name.lower():
            given: exp.Expr = each.this
            return given
    return column


def _column_words(column: exp.Column) -> str:
    return column.sql(dialect="sqlite")


def _names_in(read: Line) -> list[str]:
    if read.kind is Kind.EITHER:
        parts = [e for part in read.below for e in ([part] if part.name else part.below)]
        return list(dict.fromkeys(e.name for e in parts if e.name))
    return [read.name] if read.name else []


def _small(sources: Iterable[str]) -> set[str]:
    return {each.lower() for each in sources}


def _operation(read: Line) -> str:
    if read.kind is Kind.SCAN and not read.index:
        return "full_scan"
    return "index_only_scan" if read.covering else "index_scan"


def _index_name(read: Line, facts: TableFacts) -> str:
    if read.by_rowid:
        return "rowid"
    if read.by_primary_key:
        return next((i.name for i in facts.indexes if i.primary), "primary key")
    return read.index


def _searched(
    read: Line, alias: str, facts: TableFacts, mine: Sequence[Condition]
) -> list[Condition]:
    """The conditions that the listing says an index is searched by."""
    found: list[Condition] = []
    rowid = next((i.key_columns[0] for i in facts.indexes if i.name == "rowid"), "rowid")
    for column, operator in read.terms:
        name = rowid if column == "rowid" else column
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


def _values_in(condition: Condition) -> float:
    """How many values a condition asks for."""
    if condition.operator != "in":
        return _LIST if "= ANY (" in condition.text else 1.0
    return condition.text.count(",") + 1.0


def _number_of(expression: exp.Expr | None, otherwise: float) -> float:
    if isinstance(expression, exp.Literal) and expression.is_int:
        return float(expression.name)
    return otherwise


def _asking(draft: Draft, mark: str) -> Draft | None:
    """The step whose conditions name a sub-query."""
    texts = [*draft.get("search", ()), *draft.get("filter", ()), *draft.get("join", ())]
    if any(mark in text for text in texts):
        return draft
    for child in draft["children"]:
        found = _asking(child, mark)
        if found is not None:
            return found
    return None


def _raise(draft: Draft, below: Draft, added: float) -> bool:
    """Add to the cost of every step above one, once for each of its turns."""
    for place, child in enumerate(draft["children"]):
        if child is below or _raise(child, below, added):
            turns = draft["children"][0]["rows"] if place and child["role"] == "inner" else 1.0
            draft["cost"] += added * max(1.0, turns if draft["operation"] == "nested_loop" else 1.0)
            return True
    return False
