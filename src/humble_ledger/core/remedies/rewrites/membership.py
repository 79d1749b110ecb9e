"""Tests of membership: NOT IN as NOT EXISTS, and joins that only test as EXISTS."""

from __future__ import annotations

from collections.abc import Iterator

from sqlglot import exp

from humble_ledger.core.remedies.rewrites.model import (
    ALWAYS,
    Reading,
    Rewriting,
    all_conditions,
    is_unique,
    known_table,
    only_inner_joins,
    plain,
    sources,
)
from humble_ledger.core.statements.conjuncts import and_all


def not_in(reading: Reading) -> Iterator[Rewriting]:
    """x NOT IN (SELECT y FROM s)  →  NOT EXISTS (SELECT 1 FROM (…) WHERE y = x)."""
    for place, found in enumerate(_not_ins(reading.tree)):
        query = found.this.args["query"].this
        column = found.this.this.unnest()
        if not isinstance(column, exp.Column) or not reading.alias_of(column):
            continue
        if not isinstance(query, exp.Select) or len(query.expressions) != 1:
            continue
        alias = reading.alias_of(column)
        tree = reading.copy()
        target = _not_ins(tree)[place]
        target.replace(_no_such_row(query, alias, column))
        nulls = _nulls(reading, column, query)
        yield Rewriting(
            reading.written(tree),
            f"NOT EXISTS in place of NOT IN for {column.name}",
            f"neither {' nor '.join(nulls)} is NULL" if nulls else ALWAYS,
        )


def _not_ins(tree: exp.Expr) -> list[exp.Not]:
    return [
        each
        for each in tree.find_all(exp.Not)
        if isinstance(each.this, exp.In) and each.this.args.get("query") is not None
    ]


def _no_such_row(query: exp.Select, alias: str, column: exp.Column) -> exp.Expr:
    outer = exp.column(column.name, table=alias, quoted=column.this.args.get("quoted"))
    shown = query.expressions[0].unalias()
    simple = plain(query, "group", "having", "distinct", "limit", "offset", "with_")
    inner_from = query.args.get("from_")
    if simple and isinstance(shown, exp.Column) and inner_from is not None:
        inner = query.copy()
        name = shown.copy()
        only = inner_from.this.alias_or_name
        if not shown.table and not query.args.get("joins"):
            name.set("table", exp.to_identifier(only))
        inner.set("expressions", [exp.Literal.number(1)])
        inner.set("order", None)
        tie = exp.EQ(this=name, expression=outer)
        where = inner.args.get("where")
        parts = [where.this] if where is not None else []
        inner.set("where", exp.Where(this=and_all([*parts, tie])))
        return exp.Not(this=exp.Exists(this=inner))
    given = query.copy()
    given.set("expressions", [exp.alias_(shown.copy(), "given")])
    derived = exp.Subquery(this=given, alias=exp.to_identifier("listed"))
    tie = exp.EQ(this=exp.column("given", table="listed"), expression=outer)
    return exp.Not(this=exp.Exists(this=exp.select("1").from_(derived).where(tie)))


def _nulls(reading: Reading, column: exp.Column, query: exp.Select) -> list[str]:
    """The two sides that may be NULL as far as is known."""
    found = []
    facts = reading.tables[reading.alias_of(column)]
    if column.name not in facts.columns or not facts.columns[column.name].not_null:
        found.append(column.name)
    shown = query.expressions[0].unalias()
    if not _never_null(reading, shown, query):
        found.append(f"{reading.words(shown)} of the sub-query")
    return found


def _never_null(reading: Reading, shown: exp.Expr, query: exp.Select) -> bool:
    source = query.args.get("from_")
    if not isinstance(shown, exp.Column) or source is None or query.args.get("joins"):
        return False
    facts = known_table(reading.known, source.this)
    return facts is not None and shown.name in facts.columns and facts.columns[shown.name].not_null


def distinct_to_exists(reading: Reading) -> Iterator[Rewriting]:
    """SELECT DISTINCT k.… FROM k JOIN v … JOIN a …  →  … FROM k WHERE EXISTS (… v JOIN a …)."""
    tree = reading.tree
    if not tree.args.get("distinct") or not plain(tree, "group", "having", "with_", "windows"):
        return
    if tree.args["distinct"].args.get("on") or not only_inner_joins(tree):
        return
    shown = set().union(*(reading.aliases_in(e) for e in tree.expressions))
    order = tree.args.get("order")
    ordered = reading.aliases_in(order) if order is not None else set()
    if len(shown) != 1 or "" in shown or not ordered <= shown or len(reading.tables) < 2:
        return
    (kept,) = shown
    conditions = all_conditions(tree)
    if any("" in reading.aliases_in(c) for c in conditions):
        return
    outer = [c for c in conditions if reading.aliases_in(c) <= shown]
    inner = [c for c in conditions if c not in outer]
    if any(c.find(exp.Subquery, exp.Exists) for c in inner):
        return
    tests = _tests(reading, kept, inner)
    if tests is None:
        return
    made = reading.copy()
    base = next(s.copy() for s in sources(tree) if s.alias_or_name == kept)
    made.set("from_", exp.From(this=base))
    made.set("joins", [])
    made.set("where", exp.Where(this=and_all([*outer, *tests])))
    columns = [e.unalias() for e in tree.expressions]
    names = [c.name for c in columns if isinstance(c, exp.Column)]
    if is_unique(reading.tables[kept], names):
        made.set("distinct", None)
    others = [s for s in sources(tree) if s.alias_or_name != kept]
    yield Rewriting(
        reading.written(made),
        f"EXISTS in place of joining {_named(others)}",
        against=("distinct-hides-fan-out",),
    )


def _tests(reading: Reading, root: str, conditions: list[exp.Expr]) -> list[exp.Expr] | None:
    """EXISTS within EXISTS along the ties from one table; None when they form no tree.

    Each test stops at its first match, so no row is made for every pair of matches.
    """
    named = [reading.aliases_in(c) for c in conditions]
    if any(len(aliases) > 2 for aliases in named):
        return None
    left = set(reading.tables) - {root}

    def below(parent: str) -> list[exp.Expr]:
        tests: list[exp.Expr] = []
        neighbours = sorted(
            alias for alias in left if any(aliases == {parent, alias} for aliases in named)
        )
        left.difference_update(neighbours)
        for alias in neighbours:
            own = [
                c for c, aliases in zip(conditions, named, strict=True)
                if aliases in ({alias}, {parent, alias})
            ]  # fmt: skip
            source = next(s for s in sources(reading.tree) if s.alias_or_name == alias)
            test = exp.select("1").from_(source.copy())
            condition = and_all([*own, *below(alias)])
            assert condition is not None
            tests.append(exp.Exists(this=test.where(condition)))
        return tests

    made = below(root)
    ties = [aliases for aliases in named if len(aliases) == 2]
    tree_shaped = len({frozenset(aliases) for aliases in ties}) == len(reading.tables) - 1
    return made if not left and tree_shaped else None


def _named(others: list[exp.Expr]) -> str:
    return " and ".join(other.name for other in others)
