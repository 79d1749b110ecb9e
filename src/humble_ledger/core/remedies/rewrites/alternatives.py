"""OR over columns that no one index leads to, as branches that each have their own."""

from __future__ import annotations

from collections.abc import Iterator

from sqlglot import exp

from humble_ledger.core.remedies.rewrites.model import Reading, Rewriting, plain
from humble_ledger.core.statements.conjuncts import and_all, conjuncts

MOST_BRANCHES = 4


def branches(reading: Reading) -> Iterator[Rewriting]:
    """a = 1 OR b = 2  →  … a = 1  UNION ALL  … b = 2 AND (a = 1) IS NOT TRUE.

    Each branch leaves out the rows of those before it, so none comes twice and none is lost.
    """
    tree = reading.tree
    where = tree.args.get("where")
    if where is None or not plain(tree, "group", "having", "distinct", "windows", "with_"):
        return
    if any(tree.find_all(exp.AggFunc)) or any(tree.find_all(exp.Window)):
        return
    parts = conjuncts(where.this)
    for part in parts:
        if not isinstance(part, exp.Or):
            continue
        choices = [choice.unnest() for choice in part.flatten()]
        columns = {c.name for choice in choices for c in choice.find_all(exp.Column)}
        if not 2 <= len(choices) <= MOST_BRANCHES or len(columns) < 2:
            continue
        rest = [other for other in parts if other is not part]
        ordered = _order(tree)
        if ordered is None:
            return
        union = _union(tree, choices, rest)
        yield Rewriting(
            reading.written(_with_order(tree, union, ordered)),
            "each side of OR as a branch of its own",
        )
        return


def _union(tree: exp.Select, choices: list[exp.Expr], rest: list[exp.Expr]) -> exp.Expr:
    made: exp.Expr | None = None
    for place, choice in enumerate(choices):
        before = [
            exp.Not(this=exp.Is(this=exp.paren(earlier.copy()), expression=exp.true()))
            for earlier in choices[:place]
        ]
        branch = tree.copy()
        for clause in ("order", "limit", "offset"):
            branch.set(clause, None)
        branch.set("where", exp.Where(this=and_all([choice, *before, *rest])))
        made = branch if made is None else exp.union(made, branch, distinct=False, copy=False)
    assert made is not None
    return made


def _order(tree: exp.Select) -> list[exp.Expr] | None:
    """ORDER BY in terms of the output's names; None when it orders by something not shown."""
    order = tree.args.get("order")
    if order is None:
        return []
    names = {e.alias_or_name for e in tree.expressions}
    found = []
    for each in order.expressions:
        column = each.this
        if not isinstance(column, exp.Column) or column.name not in names:
            return None
        moved = each.copy()
        moved.set("this", exp.column(column.name, quoted=column.this.args.get("quoted")))
        found.append(moved)
    return found


def _with_order(tree: exp.Select, union: exp.Expr, ordered: list[exp.Expr]) -> exp.Expr:
    if not ordered and plain(tree, "limit", "offset"):
        return union
    outer = exp.select("*").from_(exp.Subquery(this=union, alias=exp.to_identifier("found")))
    if ordered:
        outer.set("order", exp.Order(expressions=ordered))
    for clause in ("limit", "offset"):
        if tree.args.get(clause) is not None:
            outer.set(clause, tree.args[clause].copy())
    return outer
