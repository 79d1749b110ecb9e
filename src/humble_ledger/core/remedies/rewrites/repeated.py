"""A sub-query that stands in a statement several times, computed once."""

from __future__ import annotations

from collections.abc import Iterator

from sqlglot import exp

from humble_ledger.core.remedies.rewrites.model import Reading, Rewriting


def once(reading: Reading) -> Iterator[Rewriting]:
    """Equal sub-queries that depend on nothing outside  →  WITH once AS MATERIALIZED (…)."""
    counted: dict[str, int] = {}
    for each in _constant(reading.tree, reading):
        text = reading.words(each)
        counted[text] = counted.get(text, 0) + 1
    repeated = [text for text, times in counted.items() if times > 1]
    if not repeated or reading.tree.args.get("with_"):
        return
    tree = reading.copy()
    for number, text in enumerate(repeated, start=1):
        name = f"once_{number}"
        first = None
        for each in _constant(tree, reading):
            if reading.words(each) == text:
                first = first or each.this.copy()
                each.replace(exp.Subquery(this=exp.select("value").from_(name)))
        if first is not None:
            shown = first.expressions[0].unalias()
            first.set("expressions", [exp.alias_(shown.copy(), "value")])
            tree = tree.with_(name, as_=first, materialized=True, copy=False)
    yield Rewriting(
        reading.written(tree),
        "the sub-query that stands in it several times computed once",
        "its functions give the same result whenever they are called within one statement",
    )


def _constant(tree: exp.Select, reading: Reading) -> list[exp.Subquery]:
    """Scalar sub-queries of one value that name no table of the statement around them."""
    found = []
    for each in tree.find_all(exp.Subquery):
        query = each.this
        if not isinstance(query, exp.Select) or len(query.expressions) != 1:
            continue
        if isinstance(each.parent, exp.From | exp.Join):
            continue
        inside = {t.alias_or_name for t in query.find_all(exp.Table)}
        outside = [c for c in query.find_all(exp.Column) if c.table and c.table not in inside]
        if not outside:
            found.append(each)
    return found
