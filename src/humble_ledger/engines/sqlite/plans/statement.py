"""The statement behind a plan: its sources by alias, and the conditions on each of them.

SQLite's listing names no conditions but those that an index is searched by, and these without
their values. So they are read from the statement: every part of WHERE and ON, with its columns
named by the table they are of, in the notation that the core reads (see `core.statements`).
"""

from __future__ import annotations

import logging
import re
from collections.abc import Iterator

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from humble_ledger.engines.sqlite.plans.blocks import UNNAMED, Block, Condition, Reading, SubQuery
from humble_ledger.engines.sqlite.plans.notation import (
    collation_of,
    conjuncts,
    marked,
    noted,
    projected,
    sides,
    with_names,
    within,
)
from humble_ledger.engines.sqlite.schema import ROWID, Schema, Table
from humble_ledger.engines.sqlite.sql_dialect import NAME

# It warns of what it cannot parse on the terminal; here that is an answer like any other.
logging.getLogger("sqlglot").setLevel(logging.ERROR)

_REPLACE = re.compile(r"^\s*REPLACE\b", re.IGNORECASE)
# What stands in quotes comes first: it is no hint, whatever it says.
_HINT = re.compile(
    r"('(?:[^']|'')*'|\"(?:[^\"]|\"\")*\")"
    r"|\bNOT\s+INDEXED\b|\bINDEXED\s+BY\s+(?:\"(?:[^\"]|\"\")+\"|\w+)",
    re.IGNORECASE,
)
_DEEPEST = 12


def read_statement(sql: str, schema: Schema, apart: frozenset[str] = frozenset()) -> Reading | None:
    """A statement beside the schema; None when it cannot be parsed.

    ``apart`` are sources, in small letters, that are computed by themselves: the columns of all
    others are those of the tables behind them, since the planner reads through them.
    """
    tree = parsed(sql)
    if tree is None:
        return None
    reading = Reading(tree, [])
    reader = _Reader(schema, reading, apart)
    reader.whole(tree)
    reading.resolve = reader.resolved
    return reading


def conditions_in(text: str, table: str, alias: str, schema: Schema) -> list[Condition]:
    """Conditions on one table in the core's notation, as SQLite reads them."""
    quoted = (name.replace('"', '""') for name in (table, alias))
    sql = 'SELECT 1 FROM "{}" AS "{}" WHERE '.format(*quoted) + _BEHIND.sub("", text)  # noqa: S608
    reading = read_statement(sql, schema)
    return reading.blocks[0].conditions if reading is not None and reading.blocks else []


# The order of a pattern goes without saying; that of a comparison is the column's for us.
_BEHIND = re.compile(r' COLLATE "\w+"')


def parsed(sql: str) -> exp.Expr | None:
    """The tree of a statement in SQLite's words; hints for indexes are left out."""
    text = _HINT.sub(lambda found: found[1] or " ", _REPLACE.sub("INSERT", sql))
    try:
        tree: exp.Expr = sqlglot.parse_one(text, dialect=NAME)
        return tree
    except (SqlglotError, RecursionError):
        return None


def own_words(tree: exp.Expr) -> str:
    """A part of a statement as SQLite reads it."""
    return tree.sql(dialect=NAME)


class _Reader:
    def __init__(self, schema: Schema, reading: Reading, apart: frozenset[str]) -> None:
        self.apart = apart
        self.schema = {name.lower(): table for name, table in schema.items()}
        self.reading = reading
        self.views: dict[str, exp.Query] = {}
        self.seen: set[int] = set()

    def whole(self, tree: exp.Expr) -> None:
        """All blocks of a statement, the outermost first."""
        if isinstance(tree, exp.Query):
            self.query(tree, None, {})
            return
        if isinstance(tree, exp.Insert):
            if isinstance(tree.expression, exp.Query):
                self.query(tree.expression, None, {})
            return
        target = tree.find(exp.Table)
        if isinstance(tree, exp.Update | exp.Delete) and target is not None:
            sources: dict[str, Table | exp.Query] = {}
            self._add(sources, tree.this, {})
            from_ = tree.args.get("from_")
            if from_ is not None:
                self._add(sources, from_.this, {})
            block = Block(tree, sources, None)
            self.reading.blocks.append(block)
            self._subqueries(tree, block, {})
            self._conditions(block)

    def query(self, tree: exp.Expr, outer: Block | None, ctes: dict[str, exp.Query]) -> None:
        """A query's blocks: the parts of a compound one after the other."""
        if id(tree) in self.seen or len(self.seen) > 200:
            return
        self.seen.add(id(tree))
        known = dict(ctes)
        with_ = tree.args.get("with_")
        for cte in with_.expressions if with_ is not None else ():
            if isinstance(cte.this, exp.Query):
                known[cte.alias.lower()] = cte.this
        if isinstance(tree, exp.Subquery):
            self.query(tree.this, outer, known)
        elif isinstance(tree, exp.SetOperation):
            self.query(tree.this, outer, known)
            self.query(tree.expression, outer, known)
        elif isinstance(tree, exp.Select):
            self._select(tree, outer, known)
        for cte in with_.expressions if with_ is not None else ():
            self.query(cte.this, None, known)

    def _select(self, tree: exp.Select, outer: Block | None, ctes: dict[str, exp.Query]) -> None:
        sources: dict[str, Table | exp.Query] = {}
        from_ = tree.args.get("from_")
        if from_ is not None:
            self._add(sources, from_.this, ctes)
        for join in tree.args.get("joins") or ():
            self._add(sources, join.this, ctes)
        block = Block(tree, sources, outer)
        self.reading.blocks.append(block)
        for source in list(sources.values()):
            if isinstance(source, exp.Query):
                self.query(source, None, ctes)
        self._subqueries(tree, block, ctes)
        self._conditions(block)

    def _add(
        self,
        sources: dict[str, Table | exp.Query],
        source: exp.Expr,
        ctes: dict[str, exp.Query],
    ) -> None:
        if isinstance(source, exp.Table):
            name, alias = source.name.lower(), source.alias_or_name
            if name in ctes and not source.db:
                sources[alias] = ctes[name]
            elif (table := self.schema.get(name)) is not None:
                view = self._view(table)
                sources[alias] = view if view is not None else table
        elif isinstance(source, exp.Subquery) and isinstance(source.this, exp.Query):
            # One without a name is called by its place, as plans do.
            sources[source.alias_or_name or f"{UNNAMED}{len(sources) + 1})"] = source.this
        elif isinstance(source, exp.Paren | exp.Subquery):
            self._add(sources, source.this, ctes)
        joins = source.args.get("joins") or () if isinstance(source, exp.Expr) else ()
        for join in joins:
            self._add(sources, join.this, ctes)

    def _view(self, table: Table) -> exp.Query | None:
        if table.kind != "view":
            return None
        if table.name not in self.views:
            tree = parsed(table.sql)
            query = tree.expression if isinstance(tree, exp.Create) else None
            if not isinstance(query, exp.Query):
                return None
            self.views[table.name] = query
        return self.views[table.name]

    def _subqueries(self, tree: exp.Expr, block: Block, ctes: dict[str, exp.Query]) -> None:
        """Those in conditions and in what is put out; sources were read before."""
        for inner in tree.find_all(exp.Query):
            if inner is tree or isinstance(inner, exp.Subquery) or id(inner) in self.seen:
                continue
            nearest = inner.find_ancestor(exp.Select, exp.Update, exp.Delete)
            if nearest is tree and not isinstance(inner.parent, exp.SetOperation):
                self.query(inner, block, ctes)

    def _conditions(self, block: Block) -> None:
        tree = block.tree
        where = tree.args.get("where")
        parts = [(p, False) for p in conjuncts(where.this if where is not None else None)]
        before: list[str] = []
        names = list(block.sources)
        from_ = tree.args.get("from_")
        if from_ is not None and from_.this is not None:
            before = [from_.this.alias_or_name]
        for join in tree.args.get("joins") or ():
            outer = join.side in ("LEFT", "RIGHT", "FULL")
            parts += [(p, outer) for p in conjuncts(join.args.get("on"))]
            alias = join.this.alias_or_name
            shared = [c.name for c in join.args.get("using") or ()]
            if join.method == "NATURAL":
                shared = self._shared(block, before, alias)
            for column in shared:
                mine = next((n for n in before if self._has(block, n, column)), None)
                if mine is not None and alias in names:
                    equal = exp.EQ(
                        this=exp.column(column, table=mine),
                        expression=exp.column(column, table=alias),
                    )
                    parts.append((equal, outer))
            before.append(alias)
        for part, outer in parts:
            block.conditions += list(self._condition(part, block, outer))

    def _shared(self, block: Block, before: list[str], alias: str) -> list[str]:
        source = block.sources.get(alias)
        if not isinstance(source, Table):
            return []
        return [c.name for c in source.columns if any(self._has(block, n, c.name) for n in before)]

    def _has(self, block: Block, alias: str, column: str) -> bool:
        source = block.sources.get(alias)
        return isinstance(source, Table) and source.column(column) is not None

    def _condition(self, part: exp.Expr, block: Block, outer: bool) -> Iterator[Condition]:
        part = part.unnest()
        if isinstance(part, exp.Between):
            for kind, bound in ((exp.GTE, "low"), (exp.LTE, "high")):
                yield from self._condition(
                    kind(this=part.this.copy(), expression=part.args[bound].copy()), block, outer
                )
            return
        collation = collation_of(part)
        inner = [q for q in part.find_all(exp.Query) if not isinstance(q, exp.Subquery)]
        own = tuple(q for q in inner if not any(o is not q and within(q, o) for o in inner))
        aliases = {alias for query in own for alias in self._outer_aliases(query, block)}
        numbers = tuple(self._number(query, block) for query in own)
        resolved = self.resolved(marked(part, own, numbers), block)
        aliases |= {c.table for c in resolved.find_all(exp.Column) if c.table}
        resolved = self._converted(resolved, block)
        left, right, operator = sides(resolved)
        columns = tuple(
            (side.table, side.name) if isinstance(side, exp.Column) and side.table else ("", "")
            for side in (left, right)
        )
        yield Condition(
            with_names(noted(resolved, collation), self.reading.subqueries),
            "" if own else own_words(resolved),
            frozenset(aliases),
            columns,
            operator,
            numbers,
            outer,
        )

    def _converted(self, part: exp.Expr, block: Block) -> exp.Expr:
        """A comparison of two columns, in which a text is converted for a number (manual, 4.2)."""
        if not isinstance(part, exp.EQ | exp.GT | exp.GTE | exp.LT | exp.LTE):
            return part
        sides = (part.this.unnest(), part.expression.unnest())
        kinds = [self._affinity(side, block) for side in sides]
        if "TEXT" not in kinds or not {"INTEGER", "REAL", "NUMERIC"} & set(kinds):
            return part
        texts = [side for side, kind in zip(sides, kinds, strict=True) if kind == "TEXT"]
        for side in texts:
            side.replace(exp.Cast(this=side.copy(), to=exp.DataType.build("numeric")))
        return part

    def _affinity(self, side: exp.Expr, block: Block) -> str:
        if not isinstance(side, exp.Column):
            return ""
        at: Block | None = block
        while at is not None:
            source = at.sources.get(side.table)
            if isinstance(source, Table):
                column = source.column(side.name)
                return column.affinity if column is not None else ""
            at = at.outer
        return ""

    def _number(self, query: exp.Query, block: Block) -> int:
        known = self.reading.subqueries
        known.append(SubQuery(query, bool(self._outer_aliases(query, block))))
        return len(known)

    def _outer_aliases(self, query: exp.Query, block: Block) -> set[str]:
        """The sources of a block that a query within it refers to."""
        found = set()
        for column in query.find_all(exp.Column):
            nearest = column.find_ancestor(exp.Select)
            inner = next((b for b in self.reading.blocks if b.tree is nearest), None)
            if inner is not None and inner is not block:
                owner = self._owner(column, inner)
                if owner is not None and owner[0] is block:
                    found.add(owner[1])
        return found

    def _owner(self, column: exp.Column, block: Block | None) -> tuple[Block, str] | None:
        while block is not None:
            for alias, source in block.sources.items():
                if column.table:
                    if column.table.lower() == alias.lower():
                        return block, alias
                elif isinstance(source, Table):
                    if source.column(column.name) is not None:
                        return block, alias
                elif projected(source, column.name) is not None:
                    return block, alias
            block = block.outer
        return None

    def resolved(self, part: exp.Expr, block: Block, depth: int = 0) -> exp.Expr:
        """A copy in which each column names its table; those of sub-queries as these have them."""

        def named(node: exp.Expr) -> exp.Expr:
            if not isinstance(node, exp.Column) or isinstance(node.this, exp.Star):
                return node
            return self._column(node, block, depth)

        return part.copy().transform(named)

    def _column(self, column: exp.Column, block: Block | None, depth: int) -> exp.Expr:
        while block is not None and depth < _DEEPEST:
            for alias, source in block.sources.items():
                if column.table and column.table.lower() != alias.lower():
                    continue
                if alias.startswith(UNNAMED) and UNNAMED in self.apart:
                    if not isinstance(source, Table) and projected(source, column.name):
                        return exp.column(column.name, table=alias)
                    continue
                if isinstance(source, Table):
                    found = source.column(column.name)
                    if found is not None:
                        return exp.column(found.name, table=alias)
                    if column.name.lower() in (ROWID, "oid", "_rowid_") and source.by_rowid:
                        return exp.column(source.rowid_column or ROWID, table=alias)
                elif (given := projected(source, column.name)) is not None:
                    if alias.lower() in self.apart:
                        return exp.column(column.name, table=alias)
                    inner = self.reading.block_of(source)
                    if inner is None or isinstance(source, exp.SetOperation):
                        return exp.column(column.name, table=alias)
                    return exp.paren(self.resolved(given, inner, depth + 1)).unnest()
            block = block.outer
        return column
