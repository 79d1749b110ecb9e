"""What asks a sub-query put before it, so that each of its rows can ask (LATERAL)."""

from __future__ import annotations

from sqlglot import exp

from humble_ledger.core.remedies.rewrites.model import only_inner_joins, sources


def asked_first(tree: exp.Select) -> exp.Select | None:
    """FROM (SELECT …) s JOIN t ON …  →  FROM t JOIN (SELECT …) s ON …; None for all others.

    Inner joins come in any order; the columns that * stands for are named in the old one.
    """
    source = tree.args["from_"].this
    joins = tree.args.get("joins") or []
    if not isinstance(source, exp.Subquery) or not joins or not only_inner_joins(tree):
        return None
    before = sources(tree)
    if not isinstance(joins[0].this, exp.Table) or not all(each.alias_or_name for each in before):
        return None
    if any(isinstance(each, exp.Lateral) for each in before):
        return None
    turned = tree.copy()
    first, join = turned.args["from_"].this, turned.args["joins"][0]
    asking = join.this.copy()
    join.set("this", first.copy())
    turned.set("from_", exp.From(this=asking))
    every = [exp.Column(this=exp.Star(), table=_name_of(each)) for each in before]
    shown = []
    for each in turned.expressions:
        shown += [star.copy() for star in every] if isinstance(each, exp.Star) else [each]
    turned.set("expressions", shown)
    return turned


def _name_of(source: exp.Expr) -> exp.Identifier:
    """The name under which a source's columns are called, quoted as it was."""
    alias = source.args.get("alias")
    name = alias.this if isinstance(alias, exp.TableAlias) else source.this
    return name.copy() if isinstance(name, exp.Identifier) else exp.to_identifier(str(name))
