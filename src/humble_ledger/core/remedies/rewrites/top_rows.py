"""The first rows of each group, fetched group by group instead of numbered all together."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from sqlglot import exp

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.remedies.rewrites.model import (
    ALWAYS,
    Rewriting,
    known_table,
    parsed,
    plain,
    written,
)
from humble_ledger.core.schema.facts import ForeignKey, TableFacts, TableName
from humble_ledger.core.statements.conjuncts import and_all, conjuncts
from humble_ledger.core.statements.numbered import most_kept

_GROUP = "each_group"


@dataclass(frozen=True, slots=True)
class _Numbered:
    """A sub-query that numbers the rows of groups: its window, its table, the number wanted."""

    source: exp.Subquery
    query: exp.Select
    window: exp.Window
    name: str
    most: int


def first_of_each(
    sql: str, tables: Mapping[TableName, TableFacts], dialect: Dialect
) -> Iterator[Rewriting]:
    """row_number() OVER (PARTITION BY k ORDER BY o) <= n  →  for each k: ORDER BY o LIMIT n.

    The groups are the rows of the table that k refers to, so that none is looked for in vain
    which cannot be there.
    """
    tree = parsed(sql, dialect)
    if not isinstance(tree, exp.Select):
        return
    tree = tree.copy()
    found = _numbered(tree)
    if found is None:
        return
    source = found.query.args["from_"].this
    facts = known_table(tables, source) if isinstance(source, exp.Table) else None
    by = found.window.args.get("partition_by") or []
    if facts is None or len(by) != 1 or not isinstance(by[0], exp.Column):
        return
    key = next((k for k in facts.foreign_keys if k.holds and k.columns == (by[0].name,)), None)
    if key is None or by[0].name not in facts.columns:
        return
    shown = found.source.alias
    for each in list(tree.expressions):
        if isinstance(each, exp.Star):
            each.replace(exp.Column(this=exp.Star(), table=exp.to_identifier(shown)))
    _fetch_by_group(found, by[0], key)
    column = facts.columns[by[0].name]
    yield Rewriting(
        written(tree, dialect),
        f"the first {found.most} rows of {facts.name.name} fetched for each {by[0].name}",
        ALWAYS if column.not_null else f"{by[0].name} is never NULL",
    )


def _numbered(tree: exp.Select) -> _Numbered | None:
    """The one source of a statement that numbers rows, with a condition on the number."""
    from_ = tree.args.get("from_")
    source = from_.this if from_ is not None else None
    if not isinstance(source, exp.Subquery) or tree.args.get("joins") or not source.alias:
        return None
    query = source.this
    if not isinstance(query, exp.Select) or not plain(
        query,
        "group",
        "having",
        "distinct",
        "limit",
        "offset",
        "with_",
        "joins",
        "order",
        "windows",
    ):
        return None
    windows = list(query.find_all(exp.Window))
    if len(windows) != 1 or not isinstance(windows[0].this, exp.RowNumber):
        return None
    alias = windows[0].parent
    if not isinstance(alias, exp.Alias) or windows[0].args.get("order") is None:
        return None
    most = most_kept(tree, source.alias, alias.alias)
    return None if most is None else _Numbered(source, query, windows[0], alias.alias, most)


def _fetch_by_group(found: _Numbered, by: exp.Column, key: ForeignKey) -> None:
    """Change the sub-query in its tree: it is asked once for each row that ``key`` refers to."""
    query = found.query
    order = found.window.args["order"]
    found.window.set("partition_by", None)
    where = query.args.get("where")
    tie = exp.EQ(
        this=by.copy(), expression=exp.column(key.refers_to_columns[0], table=_GROUP, quoted=True)
    )
    condition = and_all([tie, *conjuncts(where.this if where is not None else None)])
    query.set("where", exp.Where(this=condition))
    query.set("order", exp.Order(expressions=[o.copy() for o in order.expressions]))
    query.set("limit", exp.Limit(expression=exp.Literal.number(found.most)))
    parent = exp.table_(key.refers_to.name, db=key.refers_to.schema or None, quoted=True)
    groups = exp.alias_(parent, _GROUP, table=True)
    source = found.source
    lateral = exp.Lateral(this=exp.Subquery(this=query.copy()), alias=source.args["alias"].copy())
    select = source.find_ancestor(exp.Select)
    assert select is not None
    select.set("from_", exp.From(this=groups))
    select.set("joins", [exp.Join(this=lateral, kind="CROSS")])
