"""Groups made once: a sub-query per row as one grouped join, and groups made before a join."""

from __future__ import annotations

from collections.abc import Iterator

from sqlglot import exp

from humble_ledger.core.remedies.rewrites.model import (
    Reading,
    Rewriting,
    all_conditions,
    is_unique,
    only_inner_joins,
    plain,
    sources,
)
from humble_ledger.core.statements.conjuncts import and_all, conjuncts

_KEEPS_NULL = (exp.Sum, exp.Avg, exp.Min, exp.Max)


def per_row_to_join(reading: Reading) -> Iterator[Rewriting]:
    """(SELECT count(*) FROM a WHERE a.k = o.k)  →  LEFT JOIN (SELECT k, count(*) … GROUP BY k).

    count gives 0 where there is no row, the other aggregates NULL: so does the join.
    """
    if reading.tree.args.get("group") or reading.tree.args.get("distinct"):
        return
    tree = reading.copy()
    done = []
    for number, found in enumerate(_scalars(tree), start=1):
        made = _grouped(reading, found.this, f"each_{number}")
        if made is None:
            continue
        join, value, name = made
        alias = found.parent
        # A bare sub-query is shown under the name of its one function.
        shown = found.this.expressions[0].unalias().key.lower()
        column = value if isinstance(alias, exp.Alias) else exp.alias_(value, shown)
        found.replace(column)
        tree.append("joins", join)
        done.append(name)
    if done:
        yield Rewriting(
            reading.written(tree),
            f"{' and '.join(dict.fromkeys(done))} grouped once and joined",
            against=("subquery-per-row",),
        )


def _scalars(tree: exp.Select) -> list[exp.Subquery]:
    """Sub-queries in what is shown, outermost ones only."""
    return [
        each
        for shown in tree.expressions
        for each in [shown.unalias()]
        if isinstance(each, exp.Subquery) and isinstance(each.this, exp.Select)
    ]


def _grouped(
    reading: Reading, query: exp.Select, alias: str
) -> tuple[exp.Join, exp.Expr, str] | None:
    """The join, what stands for the value, and the table's name; None when it cannot be."""
    source = query.args.get("from_")
    if source is None or not isinstance(source.this, exp.Table) or len(query.expressions) != 1:
        return None
    if not plain(query, "joins", "group", "having", "distinct", "limit", "offset", "order"):
        return None
    shown = query.expressions[0].unalias()
    counts = isinstance(shown, exp.Count)
    if not (counts or isinstance(shown, _KEEPS_NULL)):
        return None
    own = source.this.alias_or_name
    where = query.args.get("where")
    ties, kept = [], []
    for part in conjuncts(where.this if where is not None else None):
        outside = _outer_columns(reading, part, own)
        if not outside:
            kept.append(part)
            continue
        tie = _tie(part, own, outside)
        if tie is None:
            return None
        ties.append(tie)
    if not ties:
        return None
    inner = exp.select(
        *(exp.alias_(mine.copy(), f"key_{n}") for n, (mine, _) in enumerate(ties, start=1)),
        exp.alias_(shown.copy(), "value"),
    ).from_(source.this.copy())
    condition = and_all(kept)
    if condition is not None:
        inner = inner.where(condition)
    inner = inner.group_by(*(mine.copy() for mine, _ in ties))
    on = and_all(
        exp.EQ(this=exp.column(f"key_{n}", table=alias), expression=outer.copy())
        for n, (_, outer) in enumerate(ties, start=1)
    )
    joined = exp.Subquery(this=inner, alias=exp.to_identifier(alias))
    value: exp.Expr = exp.column("value", table=alias)
    if counts:
        value = exp.Coalesce(this=value, expressions=[exp.Literal.number(0)])
    return exp.Join(this=joined, side="LEFT", on=on), value, source.this.name


def _outer_columns(reading: Reading, part: exp.Expr, own: str) -> list[exp.Column]:
    return [
        column
        for column in part.find_all(exp.Column)
        if column.table and column.table != own and column.table in reading.tables
    ]


def _tie(
    part: exp.Expr, own: str, outside: list[exp.Column]
) -> tuple[exp.Column, exp.Column] | None:
    """(own column, outer column) of an equality between the two; None for anything else."""
    if not isinstance(part, exp.EQ) or len(outside) != 1:
        return None
    sides = (part.this.unnest(), part.expression.unnest())
    for mine, other in (sides, sides[::-1]):
        if (
            isinstance(mine, exp.Column)
            and mine.table in ("", own)
            and isinstance(other, exp.Column)
            and other.table == outside[0].table
        ):
            return mine, other
    return None


def grouped_before_join(reading: Reading) -> Iterator[Rewriting]:
    """Group the many rows by what they are joined on first, then join each group once."""
    tree = reading.tree
    group = tree.args.get("group")
    if group is None or len(reading.tables) != 2 or not only_inner_joins(tree):
        return
    if not plain(tree, "having", "distinct", "with_", "windows"):
        return
    aggregates = list(tree.find_all(exp.AggFunc))
    if any(isinstance(a.parent, exp.Filter) or a.find(exp.Distinct) for a in aggregates):
        return
    many = _aggregated(reading, aggregates)
    if many is None:
        return
    (one,) = set(reading.tables) - {many}
    conditions = all_conditions(tree)
    sides = [reading.aliases_in(c) for c in conditions]
    if any("" in side for side in sides):
        return
    ties = [_tie_of(reading, c, many, one) for c, s in zip(conditions, sides, strict=True)
            if len(s) == 2]  # fmt: skip
    keys = [tie for tie in ties if tie is not None]
    if not keys or len(keys) < len(ties):
        return
    grouped = {c.name for c in group.expressions if isinstance(c, exp.Column)
               and reading.alias_of(c) == one}  # fmt: skip
    if len(grouped) < len(group.expressions):
        return
    joined_by = [other.name for _, other in keys]
    unique = is_unique(reading.tables[one], joined_by)
    if not unique or not is_unique(reading.tables[one], grouped):
        return
    yield Rewriting(
        reading.written(_before(reading, many, one, keys, conditions)),
        f"{reading.tables[many].name.name} grouped before it is joined",
        "the last digit of a sum of floating-point numbers does not matter"
        if any(_floats(reading, a) for a in aggregates)
        else "",
        against=("aggregation-after-join",),
    )


def _floats(reading: Reading, aggregate: exp.AggFunc) -> bool:
    """Whether numbers are added up whose sum depends on the order they come in."""
    if isinstance(aggregate, exp.Count | exp.Min | exp.Max):
        return False
    types = {
        reading.tables[alias].columns[column.name].type_name
        for column in aggregate.find_all(exp.Column)
        if (alias := reading.alias_of(column)) and column.name in reading.tables[alias].columns
    }
    return not types or any(type_.startswith(("real", "double")) for type_ in types)


def _aggregated(reading: Reading, aggregates: list[exp.AggFunc]) -> str | None:
    """The one table whose columns are aggregated: the larger one when only rows are counted."""
    named = set().union(*(reading.aliases_in(a) for a in aggregates)) if aggregates else {""}
    if named == set():
        return max(reading.tables, key=lambda alias: reading.tables[alias].rows)
    return named.pop() if len(named) == 1 and "" not in named else None


def _tie_of(
    reading: Reading, condition: exp.Expr, many: str, one: str
) -> tuple[exp.Column, exp.Column] | None:
    if not isinstance(condition, exp.EQ):
        return None
    sides = (condition.this.unnest(), condition.expression.unnest())
    for mine, other in (sides, sides[::-1]):
        columns = isinstance(mine, exp.Column) and isinstance(other, exp.Column)
        if columns and (reading.alias_of(mine), reading.alias_of(other)) == (many, one):
            return mine, other
    return None


def _before(
    reading: Reading,
    many: str,
    one: str,
    keys: list[tuple[exp.Column, exp.Column]],
    conditions: list[exp.Expr],
) -> exp.Select:
    made = reading.copy()
    names: dict[str, str] = {}
    for aggregate in list(made.find_all(exp.AggFunc)):
        text = reading.words(aggregate)
        name = names.setdefault(text, f"value_{len(names) + 1}")
        column = exp.column(name, table="grouped")
        aggregate.replace(column)
    kept = [m.copy() for m, _ in keys]
    inner = exp.select(
        *(exp.alias_(mine, mine.name) for mine in kept),
        *(exp.alias_(exp.maybe_parse(text, dialect=reading.dialect.parser), name)
          for text, name in names.items()),
    )  # fmt: skip
    by_alias = {s.alias_or_name: s.copy() for s in sources(reading.tree)}
    inner = inner.from_(by_alias[many])
    own = and_all(c for c in conditions if reading.aliases_in(c) == {many})
    if own is not None:
        inner = inner.where(own)
    inner = inner.group_by(*(mine.copy() for mine, _ in keys))
    made.set("from_", exp.From(this=exp.Subquery(this=inner, alias=exp.to_identifier("grouped"))))
    on = and_all(
        exp.EQ(this=other.copy(), expression=exp.column(mine.name, table="grouped"))
        for mine, other in keys
    )
    made.set("joins", [exp.Join(this=by_alias[one], on=on)])
    rest = and_all(c for c in conditions if reading.aliases_in(c) <= {one})
    made.set("where", exp.Where(this=rest) if rest is not None else None)
    made.set("group", None)
    for expression in made.expressions:
        shown = expression.unalias()
        if isinstance(shown, exp.Column) and shown.table == "grouped" and expression is shown:
            expression.replace(exp.alias_(shown.copy(), _shown_as(names, shown.name)))
    return made


def _shown_as(names: dict[str, str], name: str) -> str:
    """The name the server would give a bare aggregate."""
    text = next(text for text, given in names.items() if given == name)
    return text.split("(")[0].lower()
