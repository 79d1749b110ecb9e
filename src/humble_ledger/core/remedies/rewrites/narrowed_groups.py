"""Groups made for each row that asks for them, instead of all of them before a join."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from sqlglot import exp

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.remedies.rewrites.model import (
    ALWAYS,
    Rewriting,
    parsed,
    plain,
    sources,
    written,
)
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.statements.conjuncts import and_all, conjuncts

_AGAINST = ("aggregation-before-join",)


def groups_asked_for(
    sql: str, _: Mapping[TableName, TableFacts], dialect: Dialect
) -> Iterator[Rewriting]:
    """JOIN (SELECT k, … GROUP BY k) s ON s.k = o.k  →  JOIN LATERAL (… WHERE k = o.k …) s ON true.

    The same for the first row of each group (DISTINCT ON): of one group that is LIMIT 1.
    A condition on a key of the groups keeps or drops whole groups, so that it may stand before the
    grouping; those that no row asks for are then never made. Of NULL keys none is equal to
    anything, before as after.
    """
    tree = parsed(sql, dialect)
    if not isinstance(tree, exp.Select) or tree.args.get("from_") is None:
        return
    for place in range(len(tree.args.get("joins") or ())):
        changed = tree.copy()
        name = _narrowed(changed, place)
        if name:
            yield Rewriting(
                written(changed, dialect),
                f"the groups of {name} made for each row that is joined (LATERAL)",
                ALWAYS,
                against=_AGAINST,
                # No plan tells by what DISTINCT ON groups, so that no symptom can.
                always_asked=tree.find(exp.Distinct) is not None,
            )


def _narrowed(tree: exp.Select, place: int) -> str:
    """The tree changed at one of its joins; the name of the sub-query, "" where none fits."""
    join = tree.args["joins"][place]
    source, on = join.this, join.args.get("on")
    if not isinstance(source, exp.Subquery) or not source.alias or on is None:
        return ""
    if (join.args.get("side") or "") not in ("", "LEFT") or join.args.get("using"):
        return ""
    query = source.this
    if not isinstance(query, exp.Select) or not plain(
        query, "with_", "limit", "offset", "windows", "qualify", "laterals",
    ):  # fmt: skip
        return ""
    firsts = _first_by(query)
    if query.find(exp.Window) is not None or not (firsts or _groups_by_columns(query)):
        return ""
    before = {each.alias_or_name for each in sources(tree)[: place + 1]}
    within = {each.alias_or_name for each in query.find_all(exp.Table, exp.Subquery)}
    keys = _keys(query)
    inside: list[exp.Expr] = []
    outside: list[exp.Expr] = []
    for part in conjuncts(on):
        tie = _tie(part, source.alias, keys, before - within)
        (outside if tie is None else inside).append(part if tie is None else tie)
    if not inside:
        return ""
    if firsts:
        if len({each.this.sql() for each in inside}) < len(firsts):
            return ""  # of several groups more than one row may be wanted
        query.set("distinct", None)
        query.set("limit", exp.Limit(expression=exp.Literal.number(1)))
    where = query.args.get("where")
    query.set(
        "where",
        exp.Where(this=and_all([*inside, *conjuncts(where.this if where is not None else None)])),
    )
    lateral = exp.Lateral(this=exp.Subquery(this=query.copy()), alias=source.args["alias"].copy())
    join.set("this", lateral)
    join.set("on", and_all(outside) if outside else exp.true())
    return str(source.alias)


def _first_by(query: exp.Select) -> set[str]:
    """The columns of DISTINCT ON, in a sub-query that does nothing else; none otherwise."""
    distinct = query.args.get("distinct")
    on = distinct.args.get("on") if distinct is not None else None
    if not isinstance(on, exp.Tuple) or not plain(query, "group", "having"):
        return set()
    if not all(isinstance(each, exp.Column) for each in on.expressions):
        return set()
    return {each.sql() for each in on.expressions}


def _groups_by_columns(query: exp.Select) -> bool:
    """Whether it groups by nothing but columns: no sets of groupings, no expressions."""
    group = query.args.get("group")
    if group is None or not plain(query, "distinct", "order"):
        return False
    others = [value for name, value in group.args.items() if name != "expressions" and value]
    return not others and all(isinstance(each, exp.Column) for each in group.expressions)


def _keys(query: exp.Select) -> dict[str, exp.Column]:
    """The columns that it groups by, by the names under which it shows them."""
    made = query.args.get("group")
    group = {each.sql() for each in made.expressions} if made is not None else _first_by(query)
    found = {}
    for each in query.expressions:
        shown = each.this if isinstance(each, exp.Alias) else each
        if isinstance(shown, exp.Column) and shown.sql() in group:
            found[each.alias_or_name] = shown
    return found


def _tie(
    part: exp.Expr, name: str, keys: Mapping[str, exp.Column], outer: set[str]
) -> exp.Expr | None:
    """A comparison of a key with the rows outside, as it stands inside; None for all others."""
    if not isinstance(part, exp.EQ):
        return None
    for mine, other in ((part.this, part.expression), (part.expression, part.this)):
        if not isinstance(mine, exp.Column) or mine.table != name or mine.name not in keys:
            continue
        columns = list(other.find_all(exp.Column))
        if columns and all(column.table in outer for column in columns) and not _calls(other):
            return exp.EQ(this=keys[mine.name].copy(), expression=other.copy())
    return None


def _calls(part: exp.Expr) -> bool:
    """Whether it calls what may give another value each time, or asks a query of its own."""
    return part.find(exp.Anonymous, exp.Rand, exp.Query) is not None
