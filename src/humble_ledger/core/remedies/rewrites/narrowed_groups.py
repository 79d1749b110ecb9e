"""Groups made for each row that asks for them, instead of all of them before a join."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from sqlglot import exp

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.remedies.rewrites.asked_first import asked_first
from humble_ledger.core.remedies.rewrites.model import (
    ALWAYS,
    Rewriting,
    only_inner_joins,
    parsed,
    plain,
    sources,
    written,
)
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.statements.conjuncts import and_all, conjuncts

_AGAINST = ("aggregation-before-join", "window-before-join")


def groups_asked_for(
    sql: str, _: Mapping[TableName, TableFacts], dialect: Dialect
) -> Iterator[Rewriting]:
    """JOIN (SELECT k, … GROUP BY k) s ON s.k = o.k  →  JOIN LATERAL (… WHERE k = o.k …) s ON true.

    The same for the first row of each group (DISTINCT ON): of one group that is LIMIT 1. And for
    rows that are numbered or summed group by group (window functions), where each window's groups
    are those of the key.
    A condition on a key of the groups keeps or drops whole groups, so that it may stand before the
    grouping; those that no row asks for are then never made. Of NULL keys none is equal to
    anything, before as after.
    """
    tree = parsed(sql, dialect)
    if not isinstance(tree, exp.Select) or tree.args.get("from_") is None:
        return
    turned = asked_first(tree)
    places = [(tree, place) for place in range(len(tree.args.get("joins") or ()))]
    for form, place in [*places, *([(turned, 0)] if turned is not None else [])]:
        changed = form.copy()
        name = _narrowed(changed, place)
        if name:
            yield Rewriting(
                written(changed, dialect),
                f"the groups of {name} made for each row that is joined (LATERAL)",
                ALWAYS,
                against=_AGAINST,
                # Not every plan tells by what these group, so that a symptom may not.
                always_asked=tree.find(exp.Distinct, exp.Window) is not None,
            )


def _narrowed(tree: exp.Select, place: int) -> str:
    """The tree changed at one of its joins; the name of the sub-query, "" where none fits."""
    join = tree.args["joins"][place]
    source, on = join.this, join.args.get("on")
    if not isinstance(source, exp.Subquery) or not source.alias:
        return ""
    side = join.args.get("side") or ""
    if side not in ("", "LEFT") or join.args.get("using") or join.args.get("method"):
        return ""
    query = source.this
    if not isinstance(query, exp.Select) or not plain(
        query, "with_", "limit", "offset", "windows", "qualify", "laterals",
    ):  # fmt: skip
        return ""
    firsts = _first_by(query)
    keys = _keys(query)
    if not keys:
        return ""
    before = {each.alias_or_name for each in sources(tree)[: place + 1]}
    within = {each.alias_or_name for each in query.find_all(exp.Table, exp.Subquery)}
    inside: list[exp.Expr] = []
    outside: list[exp.Expr] = []
    # Behind an outer join WHERE drops rows that the join fills up; inside it would not.
    above = tree.args.get("where") if only_inner_joins(tree) else None
    later: list[exp.Expr] = []
    for parts, others in (
        (conjuncts(on), outside),
        (conjuncts(above.this if above is not None else None), later),
    ):
        for part in parts:
            tie = _tie(part, source.alias, keys, before - within)
            (others if tie is None else inside).append(part if tie is None else tie)
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
    if above is not None:
        tree.set("where", exp.Where(this=and_all(later)) if later else None)
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
    windows = list(query.find_all(exp.Window))
    if windows:
        grouped = _of_every_window(query, windows)
    elif _first_by(query):
        grouped = _first_by(query)
    elif _groups_by_columns(query):
        grouped = {each.sql() for each in query.args["group"].expressions}
    else:
        return {}
    found = {}
    for each in query.expressions:
        shown = each.this if isinstance(each, exp.Alias) else each
        if isinstance(shown, exp.Column) and shown.sql() in grouped:
            found[each.alias_or_name] = shown
        elif each.is_star:
            found |= _by_star(query, each, grouped)
    return found


def _of_every_window(query: exp.Select, windows: list[exp.Window]) -> set[str]:
    """The columns by which all window functions of a sub-query group, where it groups by no more.

    A condition on them keeps whole groups of each window.
    """
    if not plain(query, "group", "having", "distinct", "order"):
        return set()
    if any(each.find_ancestor(exp.Select) is not query or each.alias for each in windows):
        return set()
    each_by = [
        {by.sql() for by in each.args.get("partition_by") or () if isinstance(by, exp.Column)}
        for each in windows
    ]
    return set.intersection(*each_by)


def _by_star(query: exp.Select, star: exp.Expr, grouped: set[str]) -> dict[str, exp.Column]:
    """Those columns that a star shows: of the table before it, or of the only one there is."""
    tables = {each.alias_or_name for each in sources(query) if isinstance(each, exp.Table)}
    only = len(tables) == 1 and not query.args.get("joins")
    of = {star.table} if isinstance(star, exp.Column) else tables
    named = {each.alias for each in query.expressions if isinstance(each, exp.Alias)}
    found = {}
    for text in grouped:
        column: exp.Expr = exp.maybe_parse(text)
        if not isinstance(column, exp.Column) or column.name in named:
            continue
        if (column.table in of if column.table else only) and of <= tables:
            found[column.name] = column
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
