"""A page found by the last row of the page before it, instead of by counting all rows."""

from __future__ import annotations

from collections.abc import Iterator

from sqlglot import exp

from humble_ledger.core.remedies.rewrites.model import Reading, Rewriting, is_unique, plain
from humble_ledger.core.schema.facts import TableFacts
from humble_ledger.core.statements.conjuncts import and_all, conjuncts


def by_last_row(reading: Reading) -> Iterator[Rewriting]:
    """ORDER BY a DESC, b DESC LIMIT 50 OFFSET 9000  →  WHERE (a, b) < ($1, $2) … LIMIT 50."""
    tree, skipped = reading.tree, _skipped(reading.tree)
    order = tree.args.get("order")
    if order is None or skipped < 1 or not plain(tree, "group", "distinct", "having", "with_"):
        return
    if tree.find(exp.Parameter):
        return
    columns = [each.this for each in order.expressions]
    down = {bool(each.args.get("desc")) for each in order.expressions}
    facts = _table_of(reading, columns)
    if len(down) != 1 or facts is None:
        return
    known = [facts.columns.get(c.name) for c in columns]
    if any(column is None or not column.not_null for column in known):
        return  # where NULLs come would have to be asked for
    made = reading.copy()
    made.set("offset", None)
    holes = [exp.Parameter(this=exp.Literal.number(n)) for n in range(1, len(columns) + 1)]
    tie: exp.Expr = _beyond(columns, holes, down.pop())
    where = tree.args.get("where")
    parts = conjuncts(where.this if where is not None else None)
    made.set("where", exp.Where(this=and_all([*parts, tie])))
    last = reading.copy()
    last.set("expressions", [c.copy() for c in columns])
    last.set("limit", exp.Limit(expression=exp.Literal.number(1)))
    last.set("offset", exp.Offset(expression=exp.Literal.number(skipped - 1)))
    names = " and ".join(c.name for c in columns)
    unique = is_unique(facts, [c.name for c in columns]) and len(reading.tables) == 1
    yield Rewriting(
        reading.written(made),
        f"the page found by {names} of the last row of the page before",
        "the pages are read one after the other, each given the last row of the one before"
        + ("" if unique else f"; and no two rows have the same {names}"),
        values_from=reading.words(last),
        against=("deep-paging",),
    )


def _skipped(tree: exp.Select) -> int:
    """The rows that OFFSET passes over; 0 where it is not there, or no number."""
    offset = tree.args.get("offset")
    told = offset.expression if offset is not None else None
    return int(str(told.this)) if isinstance(told, exp.Literal) and not told.is_string else 0


def _table_of(reading: Reading, columns: list[exp.Expr]) -> TableFacts | None:
    """The one table of which all of them are columns."""
    aliases = {reading.alias_of(c) if isinstance(c, exp.Column) else "" for c in columns}
    return reading.tables[aliases.pop()] if len(aliases) == 1 and "" not in aliases else None


def _beyond(columns: list[exp.Expr], holes: list[exp.Parameter], down: bool) -> exp.Expr:
    made = exp.LT if down else exp.GT
    if len(columns) == 1:
        return made(this=columns[0].copy(), expression=holes[0])
    left = exp.Tuple(expressions=[c.copy() for c in columns])
    return made(this=left, expression=exp.Tuple(expressions=list(holes)))
