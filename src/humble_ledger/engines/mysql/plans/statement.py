"""What a statement says that its plan does not: see `plans.context`."""

from __future__ import annotations

import logging
import re
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from humble_ledger.engines.mysql.plans.notation import identifier, noted
from humble_ledger.engines.mysql.sql_dialect import NAME

logging.getLogger("sqlglot").setLevel(logging.ERROR)

# In the server's own reading of a statement, which its first note has, every column has two names
# or three: `feas`.`s`.`status`. A table has two, and is no column of an alias that is there.
_COLUMN = re.compile(
    r"(?:`(?:[^`]|``)*`\.)?(?<!`\.)`(?P<alias>(?:[^`]|``)*)`\.`(?P<column>(?:[^`]|``)*)`(?!\.`)"
    r"|`(?:[^`]|``)*`\.`(?P<third>(?:[^`]|``)*)`\.`(?P<last>(?:[^`]|``)*)`"
)
WHOLE_ROW = "the row itself"


@dataclass(slots=True)
class _Names:
    """Which alias a column belongs to, as far as the server's reading tells."""

    columns: dict[str, list[str]] = field(default_factory=dict)
    owners: dict[str, set[str]] = field(default_factory=dict)

    @staticmethod
    def of(reading: str, aliases: Collection[str]) -> _Names:
        """From the server's own reading of the statement, for the aliases in it."""
        found = _Names()
        for match in _COLUMN.finditer(reading):
            parts = match.group("third", "last")
            if parts[0] is None:
                parts = match.group("alias", "column")
            alias, column = (part.replace("``", "`") for part in parts)
            if alias not in aliases:
                continue
            known = found.columns.setdefault(alias, [])
            if column not in known:
                known.append(column)
            found.owners.setdefault(column.lower(), set()).add(alias)
        return found

    def alias(self, column: exp.Column, here: Sequence[str]) -> str:
        """The alias of a column; "" when it cannot be told."""
        if column.table:
            return str(column.table)
        owners = [a for a in self.owners.get(column.name.lower(), ()) if a in here]
        if len(owners) == 1:
            return owners[0]
        return here[0] if len(here) == 1 else ""


def context_in(sql: str, reading: str, database: str) -> dict[str, Any]:
    """The context of a statement's plan, as it stands in our document.

    ``reading`` is the server's own reading of it, "" where there is none; ``database`` the one
    that tables without one lie in.
    """
    context: dict[str, Any] = {"tables": {}, "values": {}, "columns": {}, "blocks": {}}
    try:
        tree = sqlglot.parse_one(sql, dialect=NAME)
    except (SqlglotError, RecursionError):
        return context
    aliases = {a for each in tree.find_all(exp.Select, exp.Update, exp.Delete)
               for a in _tables(each, {}, database)}  # fmt: skip
    names = _Names.of(reading, aliases)
    context["columns"] = dict(names.columns)
    for number, select in enumerate(_selects(tree), 1):
        here = list(_tables(select, context["tables"], database))
        context["blocks"][str(number)] = _block(select, names, here)
        _values(select, names, here, context["values"])
    if isinstance(tree, exp.Update | exp.Delete):
        here = list(_tables(tree, context["tables"], database))
        _values(tree, names, here, context["values"])
        # What is changed or deleted is the row itself, which no index holds.
        for alias in here:
            context["columns"].setdefault(alias, []).append(WHOLE_ROW)
    return context


def _selects(tree: exp.Expr) -> Iterator[exp.Expr]:
    """The SELECTs in the order in which the servers number them: as they stand in the text.

    A WITH stands in front, and its queries are numbered after the one they serve.
    """
    if isinstance(tree, exp.SetOperation):
        yield from (s for s in tree.find_all(exp.Select, bfs=False))
        return
    yield from tree.find_all(exp.Select, bfs=False)


def _tables(part: exp.Expr, tables: dict[str, Any], database: str) -> Iterator[str]:
    sources: list[exp.Expr] = []
    given = part.args.get("from_")
    if given is not None:
        sources.append(given.this)
    if isinstance(part, exp.Update | exp.Delete) and part.this is not None:
        sources.append(part.this)
    if isinstance(part, exp.Delete):
        sources += part.args.get("tables") or []
    sources += [join.this for join in part.args.get("joins") or ()]
    while sources:
        source = sources.pop(0)
        sources += [join.this for join in source.args.get("joins") or ()]
        if isinstance(source, exp.Paren | exp.Subquery) and not source.alias:
            sources.append(source.this)
        alias = source.alias_or_name
        if not alias:
            continue
        if isinstance(source, exp.Table) and source.name:
            schema = source.db if source.db and source.db != database else ""
            tables.setdefault(alias, [schema, source.name])
        yield alias


def _block(select: exp.Expr, names: _Names, here: Sequence[str]) -> dict[str, Any]:
    said: dict[str, Any] = {}
    limit = select.args.get("limit")
    owner: exp.Expr | None = select
    if limit is None and isinstance(select.parent, exp.Subquery | exp.Paren):
        owner = select.parent
        limit = owner.args.get("limit") if owner is not None else None
    if limit is not None and isinstance(limit.expression, exp.Literal):
        said["limit"] = float(limit.expression.name)
        offset = (owner or select).args.get("offset")
        if offset is not None and isinstance(offset.expression, exp.Literal):
            said["offset"] = float(offset.expression.name)
    if select.args.get("distinct") is not None:
        said["distinct"] = True
    group = select.args.get("group")
    if group is not None:
        said["group"] = [_named(_by_place(key, select), names, here) for key in group.expressions]
    outputs = [*select.args.get("expressions", ()), select.args.get("having")]
    said["aggregates"] = any(each is not None and _aggregate(each, select) for each in outputs)
    if said["aggregates"] and group is None:
        shown = [each.unalias() for each in select.args.get("expressions", ())]
        said["output"] = [_named(each, names, here) for each in shown]
    said["correlated"] = _correlated(select, here, names)
    ties = [f"({' = '.join(pair)})" for pair in _ties(select, names, here)]
    if ties:
        said["ties"] = ties
    return said


def _by_place(key: exp.Expr, select: exp.Expr) -> exp.Expr:
    """A key given by its place in the list, or by the name it has there."""
    outputs = select.args.get("expressions") or []
    if isinstance(key, exp.Literal) and key.is_int and 0 < int(key.name) <= len(outputs):
        chosen = outputs[int(key.name) - 1]
        found: exp.Expr = chosen.this if isinstance(chosen, exp.Alias) else chosen
        return found
    if isinstance(key, exp.Column) and not key.table:
        for each in outputs:
            if isinstance(each, exp.Alias) and each.alias.lower() == key.name.lower():
                named: exp.Expr = each.this
                return named
    return key


def _aggregate(part: exp.Expr, select: exp.Expr) -> bool:
    for each in part.find_all(exp.AggFunc):
        if each.find_ancestor(exp.Window) is None and each.find_ancestor(exp.Select) is select:
            return True
    return False


def _ties(select: exp.Expr, names: _Names, here: Sequence[str]) -> Iterator[tuple[str, str]]:
    """Columns of a sub-query that must be equal to one of the select around it."""
    around = select.find_ancestor(exp.Select)
    outside = [] if around is None else list(_aliases(around))
    pairs: list[tuple[exp.Expr, exp.Expr]] = []
    asking = select.find_ancestor(exp.In, exp.Select)
    if isinstance(asking, exp.In) and len(select.args.get("expressions", ())) == 1:
        pairs.append((select.args["expressions"][0].unalias(), asking.this))
    where = select.args.get("where")
    for each in [] if where is None else _conjuncts(where.this):
        if isinstance(each, exp.EQ):
            pairs += [(each.this, each.expression), (each.expression, each.this)]
    for own, other in pairs:
        inner, outer = own.unnest(), other.unnest()
        if not (isinstance(inner, exp.Column) and isinstance(outer, exp.Column)):
            continue
        if names.alias(inner, here) in here and names.alias(outer, outside) in outside:
            yield _named(inner, names, here), _named(outer, names, outside)


def _correlated(select: exp.Expr, here: Sequence[str], names: _Names) -> bool:
    inner = {a for each in select.find_all(exp.Select) for a in _aliases(each)} | set(here)
    for column in select.find_all(exp.Column):
        if column.table and column.table not in inner:
            return True
        if not column.table:
            owners = names.owners.get(column.name.lower(), set())
            if owners and not owners & inner:
                return True
    return False


def _aliases(select: exp.Expr) -> Iterator[str]:
    yield from _tables(select, {}, "")


def _values(part: exp.Expr, names: _Names, here: Sequence[str], values: dict[str, str]) -> None:
    """Comparisons of a column with what has no column in it."""
    conditions: list[exp.Expr] = []
    where = part.args.get("where")
    if where is not None:
        conditions += _conjuncts(where.this)
    for join in part.args.get("joins") or ():
        if join.args.get("on") is not None:
            conditions += _conjuncts(join.args["on"])
    for each in conditions:
        if isinstance(each, exp.EQ | exp.NullSafeEQ | exp.Is):
            pairs = ((each.this, each.expression), (each.expression, each.this))
            for column, value in pairs:
                bare = column.unnest()
                if not isinstance(bare, exp.Column) or value.find(exp.Column, exp.Query):
                    continue
                alias = names.alias(bare, here)
                if alias:
                    sign = "IS" if isinstance(each, exp.Is) else "="
                    name = f"{identifier(alias)}.{identifier(bare.name)}"
                    shown = noted(value.sql(dialect=NAME))[1:-1]
                    values.setdefault(f"{alias}.{bare.name}", f"({name} {sign} {shown})")
                break


def _conjuncts(condition: exp.Expr) -> list[exp.Expr]:
    bare = condition.unnest()
    if isinstance(bare, exp.And):
        return [p for part in bare.flatten() for p in _conjuncts(part)]
    return [bare]


def _named(part: exp.Expr, names: _Names, here: Sequence[str]) -> str:
    """An expression whose columns all have the names of their tables."""
    tree = part.copy()
    for column in list(tree.find_all(exp.Column)):
        alias = names.alias(column, here)
        if alias and not column.table:
            column.set("table", exp.to_identifier(alias))
    return noted(tree.sql(dialect=NAME))[1:-1]
