"""Common table expressions that are computed apart, though filters could go down into them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from sqlglot import exp

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.remedies.rewrites.model import ALWAYS, Rewriting, parsed, written
from humble_ledger.core.schema.facts import TableFacts, TableName


def inlined(sql: str, _: Mapping[TableName, TableFacts], dialect: Dialect) -> Iterator[Rewriting]:
    """WITH c AS (…)  →  WITH c AS NOT MATERIALIZED (…), where the server would compute it apart.

    It does so for one that is used twice, or that says so; then no later condition reaches the
    tables in it, nor their indexes.
    """
    tree = parsed(sql, dialect)
    with_ = tree.args.get("with_") if tree is not None else None
    if tree is None or with_ is None or with_.args.get("recursive"):
        return
    tree = tree.copy()
    changed = []
    for cte in tree.args["with_"].expressions:
        name, query = cte.alias_or_name, cte.this
        if not isinstance(query, exp.Select) or query.find(exp.Lock) is not None:
            continue
        uses = sum(t.name == name and not t.db for t in tree.find_all(exp.Table))
        apart = cte.args.get("materialized")
        if apart is False or (uses < 2 and not apart):
            continue
        cte.set("materialized", False)
        changed.append((name, query))
    if not changed:
        return
    calls = any(query.find(exp.Anonymous, exp.Rand) is not None for _, query in changed)
    yield Rewriting(
        written(tree, dialect),
        f"{' and '.join(name for name, _ in changed)} not computed apart",
        "its functions give the same result whenever they are called within one statement"
        if calls
        else ALWAYS,
        against=("filter-outside-cte",),
    )
