"""Parts of a statement in the notation that the core reads, and what they compare."""

from __future__ import annotations

import re

from sqlglot import exp

from humble_ledger.engines.sqlite.plans.blocks import SubQuery
from humble_ledger.engines.sqlite.sql_dialect import NAME

_BOUNDS = {exp.GT: ">", exp.GTE: ">=", exp.LT: "<", exp.LTE: "<="}


def collation_of(part: exp.Expr) -> str:
    """The order that a comparison asks for itself; "" for that of its column."""
    asked = part.find(exp.Collate)
    if asked is not None:
        return str(asked.expression.name).lower()
    bare = part.this if isinstance(part, exp.Not) else part
    return "nocase" if isinstance(bare.unnest(), exp.Like) else ""


def marked(part: exp.Expr, queries: tuple[exp.Query, ...], numbers: tuple[int, ...]) -> exp.Expr:
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


def with_names(text: str, known: list[SubQuery]) -> str:
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


def conjuncts(condition: exp.Expr | None) -> list[exp.Expr]:
    """The parts that AND joins, without brackets around them."""
    if condition is None:
        return []
    bare = condition.unnest()
    if isinstance(bare, exp.And):
        return [p for part in bare.flatten() for p in conjuncts(part)]
    return [bare]


def sides(part: exp.Expr) -> tuple[exp.Expr | None, exp.Expr | None, str]:
    """Both sides of a comparison, and its sign or a word for its kind: in, null, like, or."""
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


def within(inner: exp.Expr, outer: exp.Expr) -> bool:
    """Whether one part stands somewhere inside another."""
    node = inner.parent
    while node is not None:
        if node is outer:
            return True
        node = node.parent
    return False


def projected(source: exp.Query, name: str) -> exp.Expr | None:
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
