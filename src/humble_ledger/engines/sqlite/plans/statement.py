"""The statement behind a plan: its sources by alias, and the conditions on each of them.

SQLite's listing names no conditions but those that an index is searched by, and these without
their values. So they are read from the statement: every part of WHERE and ON, with its columns
named by the table they are of, in the notation that the core reads (see `core.statements`).
"""

from __future__ import annotations

import logging
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from humble_ledger.engines.sqlite.schema import Schema, Table
from humble_ledger.engines.sqlite.sql_dialect import NAME

# It warns of what it cannot parse on the terminal; here that is an answer like any other.
logging.getLogger("sqlglot").setLevel(logging.ERROR)

_REPLACE = re.compile(r"^\s*REPLACE\b", re.IGNORECASE)
_NUMBERED = re.compile(r"\?(\d+)")
_HINT = re.compile(r"\bNOT\s+INDEXED\b|\bINDEXED\s+BY\s+(?:\"[^\"]+\"|\w+)", re.IGNORECASE)
_DEEPEST = 12
UNNAMED = "(subquery-"
_BOUNDS = {exp.GT: ">", exp.GTE: ">=", exp.LT: "<", exp.LTE: "<="}


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
    text = _HINT.sub(" ", _NUMBERED.sub(r"$\1", _REPLACE.sub("INSERT", sql)))
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
        parts = [(p, False) for p in _conjuncts(where.this if where is not None else None)]
        before: list[str] = []
        names = list(block.sources)
        from_ = tree.args.get("from_")
        if from_ is not None and from_.this is not None:
            before = [from_.this.alias_or_name]
        for join in tree.args.get("joins") or ():
            outer = join.side in ("LEFT", "RIGHT", "FULL")
            parts += [(p, outer) for p in _conjuncts(join.args.get("on"))]
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
        own = tuple(q for q in inner if not any(o is not q and _within(q, o) for o in inner))
        aliases = {alias for query in own for alias in self._outer_aliases(query, block)}
        numbers = tuple(self._number(query, block) for query in own)
        resolved = self.resolved(_marked(part, own, numbers), block)
        aliases |= {c.table for c in resolved.find_all(exp.Column) if c.table}
        resolved = self._converted(resolved, block)
        left, right, operator = _sides(resolved)
        columns = tuple(
            (side.table, side.name) if isinstance(side, exp.Column) and side.table else ("", "")
            for side in (left, right)
        )
        yield Condition(
            _with_names(noted(resolved, collation), self.reading.subqueries),
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
                elif _projected(source, column.name) is not None:
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
                    if not isinstance(source, Table) and _projected(source, column.name):
                        return exp.column(column.name, table=alias)
                    continue
                if isinstance(source, Table):
                    found = source.column(column.name)
                    if found is not None:
                        return exp.column(found.name, table=alias)
                    if column.name.lower() in ("rowid", "oid", "_rowid_") and source.by_rowid:
                        return exp.column(source.rowid_column or "rowid", table=alias)
                elif (given := _projected(source, column.name)) is not None:
                    if alias.lower() in self.apart:
                        return exp.column(column.name, table=alias)
                    inner = self.reading.block_of(source)
                    if inner is None or isinstance(source, exp.SetOperation):
                        return exp.column(column.name, table=alias)
                    return exp.paren(self.resolved(given, inner, depth + 1)).unnest()
            block = block.outer
        return column


def collation_of(part: exp.Expr) -> str:
    """The order that a comparison asks for itself; "" for that of its column."""
    asked = part.find(exp.Collate)
    if asked is not None:
        return str(asked.expression.name).lower()
    bare = part.this if isinstance(part, exp.Not) else part
    return "nocase" if isinstance(bare.unnest(), exp.Like) else ""


def _marked(part: exp.Expr, queries: tuple[exp.Query, ...], numbers: tuple[int, ...]) -> exp.Expr:
    """A copy in which each query is a name of ours, to be written as plans write them."""
    if not queries:
        return part
    places = {id(query): number for query, number in zip(queries, numbers, strict=True)}

    def change(node: exp.Expr) -> exp.Expr:
        query = node.args.get("query") if isinstance(node, exp.In) else None
        if query is not None:
            number = places[id(query.unnest() if isinstance(query, exp.Subquery) else query)]
            values = exp.Anonymous(this="ANY", expressions=[exp.var(_MARK.format(number))])
            return exp.EQ(this=change(node.this), expression=values)
        bare = node.this if isinstance(node, exp.Exists | exp.Subquery) else node
        while isinstance(bare, exp.Subquery):
            bare = bare.this
        if id(bare) in places:
            return exp.paren(exp.var(_MARK.format(places[id(bare)])))
        copy = node.copy()
        for key, value in node.args.items():
            if isinstance(value, exp.Expr):
                copy.set(key, change(value))
            elif isinstance(value, list):
                copy.set(key, [change(v) if isinstance(v, exp.Expr) else v for v in value])
        return copy

    return change(part)


_MARK = "humble_subquery_{}_"
_MARKED = re.compile(r"\(humble_subquery_(\d+)_\)")


def _with_names(text: str, known: list[SubQuery]) -> str:
    """Marks as the names that sub-queries have in plans."""

    def name(found: re.Match[str]) -> str:
        return f"({known[int(found[1]) - 1].name(int(found[1]))})"

    return _MARKED.sub(name, text).replace("ANY(", "ANY (")


def noted(part: exp.Expr, collation: str = "") -> str:
    """A condition in the core's notation: in brackets, a collation of its own behind the value."""
    tree = part.copy()
    if isinstance(tree, exp.NullSafeEQ) and not tree.expression.find(exp.Column):
        tree = exp.EQ(this=tree.this, expression=tree.expression)
    for asked in list(tree.find_all(exp.Collate)):
        asked.replace(asked.this)
    text = tree.sql(dialect=NAME)
    behind = f' COLLATE "{collation}"' if collation else ""
    return f"({text}{behind})"


def _conjuncts(condition: exp.Expr | None) -> list[exp.Expr]:
    if condition is None:
        return []
    bare = condition.unnest()
    if isinstance(bare, exp.And):
        return [p for part in bare.flatten() for p in _conjuncts(part)]
    return [bare]


def _sides(part: exp.Expr) -> tuple[exp.Expr | None, exp.Expr | None, str]:
    if isinstance(part, exp.EQ | exp.NullSafeEQ):
        return _bare(part.this), _bare(part.expression), "="
    for kind, operator in _BOUNDS.items():
        if isinstance(part, kind):
            return _bare(part.this), _bare(part.expression), operator
    if isinstance(part, exp.In):
        return _bare(part.this), None, "in"
    if isinstance(part, exp.Is) and isinstance(part.expression, exp.Null):
        return _bare(part.this), None, "null"
    if isinstance(part, exp.Is):
        return _bare(part.this), _bare(part.expression), "="
    if isinstance(part, exp.Like | exp.Glob):
        return _bare(part.this), None, "like"
    if isinstance(part, exp.Or):
        return None, None, "or"
    return None, None, ""


def _bare(side: exp.Expr) -> exp.Expr:
    bare = side.unnest()
    if isinstance(bare, exp.Tuple) and bare.expressions:
        bare = bare.expressions[0].unnest()  # rows are compared by their first column first
    return bare.this.unnest() if isinstance(bare, exp.Collate) else bare


def _within(inner: exp.Expr, outer: exp.Expr) -> bool:
    node = inner.parent
    while node is not None:
        if node is outer:
            return True
        node = node.parent
    return False


def _projected(source: exp.Query, name: str) -> exp.Expr | None:
    """What a query puts out under a name; None when it has none of it."""
    tree: exp.Expr = source
    while isinstance(tree, exp.SetOperation | exp.Subquery):
        tree = tree.this
    if not isinstance(tree, exp.Select):
        return None
    for each in tree.expressions:
        if each.alias_or_name.lower() == name.lower():
            given: exp.Expr = each.this if isinstance(each, exp.Alias) else each
            return given
        if isinstance(each, exp.Star) or (
            isinstance(each, exp.Column) and isinstance(each.this, exp.Star)
        ):
            return exp.column(name)
    return None
