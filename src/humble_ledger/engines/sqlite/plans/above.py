"""What stands above the sources of a plan: groups, different values, orders, limits."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from sqlglot import exp

from humble_ledger.engines.sqlite.costs import DESCENT, PAGE_ANYWHERE, PASS, SORT, SqliteCosts
from humble_ledger.engines.sqlite.plans.blocks import Block
from humble_ledger.engines.sqlite.plans.drafts import Draft, node, startup
from humble_ledger.engines.sqlite.plans.knowledge import Knowledge
from humble_ledger.engines.sqlite.plans.listing import Kind, Line
from humble_ledger.engines.sqlite.plans.names import Names
from humble_ledger.engines.sqlite.schema import ROWID

COSTS = SqliteCosts()
_CONDENSING = ("aggregate", "group", "distinct")  # these put out what the statement asks for


@dataclass(frozen=True, slots=True)
class Above:
    """Adds those steps to the loops over the sources."""

    knowledge: Knowledge
    names: Names

    def add(
        self,
        draft: Draft,
        lines: Sequence[Line],
        block: Block | None,
        blocks: Sequence[Block],
        *,
        for_window: bool,
        member: bool,
    ) -> Draft:
        """Groups, distinct values, orders and a limit above the loops."""
        sorts = [each.sort_for for each in lines if each.kind is Kind.SORT]
        select = block.select if block is not None else None
        if select is not None and draft.get("operation") not in ("append", "set_operation"):
            draft = self._grouped(draft, select, block, sorts)
            if not for_window:
                draft = self._windowed(draft, select)
        if select is not None and select.args.get("distinct") and draft.get("index"):
            self._leaping(draft, select, block)
        if any(each.startswith("DISTINCT") for each in sorts):
            given = select.expressions if select is not None else []
            keys = self.names.listed(given, block)
            rows = self._groups(draft["rows"], given, block)
            cost = draft["rows"] * (SORT * math.log2(max(2.0, rows)) + PASS)
            draft = node(
                "distinct", "USE TEMP B-TREE FOR DISTINCT",
                cost=draft["cost"] + cost, rows=rows,
                group=keys, by_hash=True, children=[draft],
            )  # fmt: skip
        elif select is not None and select.args.get("distinct"):
            keys = self.names.listed(select.expressions, block)
            rows = self._groups(draft["rows"], select.expressions, block)
            cost = draft["cost"] + draft["rows"] * PASS
            draft = node("distinct", "DISTINCT", cost=cost, rows=rows, group=keys, children=[draft])
        query = self._query_of(block)
        order = query.args.get("order") if query is not None else None
        if for_window:
            window = select.find(exp.Window) if select is not None else None
            order = window.args.get("order") if window is not None else None
        for what in [each for each in sorts if "ORDER BY" in each]:
            keys = self.names.order(order, block) if order is not None and block is not None else []
            part = what.startswith(("LAST", "RIGHT"))
            behind = len(keys) - 1 if what.startswith("LAST") else 0
            cost = COSTS.sort(draft["rows"], 0) * (0.5 if part else 1.0)
            draft = node(
                "incremental_sort" if part else "sort", f"USE TEMP B-TREE FOR {what}",
                cost=draft["cost"] + cost, rows=draft["rows"], startup=draft["cost"] + cost,
                sort=keys, presorted=keys[:behind], children=[draft],
            )  # fmt: skip
        if not for_window and not member:
            draft = self._limited(draft, query)
        self._put_out(draft, block, blocks)
        return draft

    def _leaping(self, draft: Draft, select: exp.Select, block: Block | None) -> None:
        """Different values in the order of an index: from each the search leaps to the next."""
        groups = self._groups(draft["rows"], select.expressions, block)
        visited = float(draft["visited"] if "visited" in draft else draft["rows"])
        kept = draft["rows"] / max(1.0, visited)
        read = min(visited, groups / max(kept, 1.0 / max(1.0, visited)))
        draft["cost"] = min(
            draft["cost"], draft["cost"] * read / max(1.0, visited) + groups * 3 * DESCENT
        )
        draft["rows"] = min(draft["rows"], groups)

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
        if block is not None and block.grouped:
            return draft
        group = select.args.get("group")
        keys = self.names.listed(group.expressions, block) if group is not None else []
        if any(each.startswith("GROUP BY") for each in sorts):
            cost = draft["cost"] + COSTS.sort(draft["rows"], 0)
            draft = node(
                "sort", "USE TEMP B-TREE FOR GROUP BY", cost=cost, startup=cost,
                rows=draft["rows"], sort=keys, children=[draft],
            )  # fmt: skip
        having = select.args.get("having")
        called = [
            each for each in select.find_all(exp.AggFunc)
            if each.find_ancestor(exp.Select) is select and each.find_ancestor(exp.Window) is None
        ]  # fmt: skip
        if not keys and len(called) == 1:
            self._first_only(draft, called[0], block)
        if keys or called:
            groups = (
                self._groups(draft["rows"], group.expressions, block) if group is not None else 1.0
            )
            draft = node(
                "group" if keys and not called else "aggregate",
                "GROUP" if keys else "AGGREGATE",
                cost=draft["cost"] + draft["rows"] * PASS * max(1, len(called)), rows=groups,
                group=keys, children=[draft],
                filter=self.names.listed([having.this], block) if having is not None else [],
            )  # fmt: skip
        if block is not None:
            block.grouped = True
        return draft

    def _first_only(self, draft: Draft, called: exp.AggFunc, block: Block | None) -> None:
        """The least or greatest of an index is its first entry behind what is searched for."""
        if not isinstance(called, exp.Min | exp.Max) or not draft.get("index"):
            return
        column = self.names.resolved(called.this, block) if called.this is not None else None
        if not isinstance(column, exp.Column) or draft["filter"]:
            return
        keys = list(self.knowledge.keys(draft["relation"], draft["index"]))
        place = len(draft["search"])
        own = draft["index"] == ROWID or keys[place : place + 1] == [column.name]
        if own and column.table == draft["alias"]:
            draft["rows"] = draft["visited"] = min(1.0, draft["rows"])
            draft["cost"] = min(draft["cost"], 4 * DESCENT + PAGE_ANYWHERE)

    def _windowed(self, draft: Draft, select: exp.Select) -> Draft:
        """What is computed of each row among its like."""
        if not any(w.find_ancestor(exp.Select) is select for w in select.find_all(exp.Window)):
            return draft
        cost = draft["cost"] + draft["rows"] * 2 * PASS
        return node("window", "WINDOW", cost=cost, rows=draft["rows"], children=[draft])

    def _groups(self, rows: float, parts: Sequence[exp.Expr], block: Block | None) -> float:
        """How many different values these have together, at most."""
        found = 1.0
        for each in parts:
            bare = each.this if isinstance(each, exp.Alias) else each
            column = self.names.resolved(bare, block)
            table = self.names.table_of(column.table) if isinstance(column, exp.Column) else None
            found *= self.knowledge.distinct(table, column.name) if table is not None else rows**0.5
        return max(1.0, min(rows, found))

    def _limited(self, draft: Draft, query: exp.Expr | None) -> Draft:
        limit = query.args.get("limit") if query is not None else None
        if limit is None or not isinstance(limit, exp.Limit):
            return draft
        offset = query.args.get("offset") if query is not None else None
        rows = _number_of(limit.expression, 10.0)
        skipped = _number_of(offset.expression, 0.0) if offset is not None else 0.0
        start = min(draft["cost"], startup(draft))
        part = min(1.0, (rows + skipped) / max(1.0, draft["rows"]))
        return node(
            "limit", "LIMIT", cost=start + (draft["cost"] - start) * part,
            # What is skipped comes before the first row.
            startup=start + (draft["cost"] - start) * min(part, skipped / max(1.0, draft["rows"])),
            rows=min(rows, max(0.0, draft["rows"] - skipped)), children=[draft],
        )  # fmt: skip

    def _put_out(self, draft: Draft, block: Block | None, blocks: Sequence[Block]) -> None:
        """What each step above the sources hands on: the columns that are needed further up."""
        select = block.select if block is not None else None
        if select is None:
            return
        aliases = [alias for each in blocks for alias in each.sources]
        columns = [name for alias in aliases for name in self.names.columns(alias)]
        waiting = [draft]
        while waiting:
            step = waiting.pop()
            if step.get("relation") or "subplan" in step:
                continue
            if step["operation"] in _CONDENSING:
                step["output"] = self.names.listed(select.expressions, block)
            else:
                step.setdefault("output", []).extend(columns)
            waiting += [c for c in step["children"] if c["role"] in ("outer", "inner")]


def _number_of(expression: exp.Expr | None, otherwise: float) -> float:
    if isinstance(expression, exp.Literal) and expression.is_int:
        return float(expression.name)
    return otherwise
