"""UNION as UNION ALL, where no row can come twice."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from itertools import combinations

from sqlglot import exp

from humble_ledger.core.dialect import STANDARD, Dialect
from humble_ledger.core.remedies.rewrites.model import (
    Rewriting,
    is_unique,
    known_table,
    parsed,
    plain,
    written,
)
from humble_ledger.core.schema.facts import TableFacts, TableName

_MAKES_OTHER_ROWS = ("joins", "group", "having", "distinct", "limit", "offset", "laterals")


def without_removal(
    sql: str, tables: Mapping[TableName, TableFacts], dialect: Dialect = STANDARD
) -> Iterator[Rewriting]:
    """Each part shows a key of its one table, and any two differ in a constant that they show."""
    tree = parsed(sql, dialect)
    if not isinstance(tree, exp.Union) or tree.args.get("with_"):
        return
    made = tree.copy()
    unions, members = _parts(made)
    selects = [each for each in members if isinstance(each, exp.Select)]
    if not all(each.args.get("distinct") for each in unions) or len(selects) < len(members):
        return
    if not all(_shows_a_key(each, tables) for each in selects):
        return
    if not all(_differ(one, other) for one, other in combinations(selects, 2)):
        return
    for each in unions:
        each.set("distinct", False)
    yield Rewriting(
        written(made, dialect),
        "UNION ALL in place of UNION, as no row can come twice",
        always_asked=True,
    )


def _parts(tree: exp.Expr) -> tuple[list[exp.Union], list[exp.Expr]]:
    """The unions that a statement itself is made of, and what they put together."""
    if not isinstance(tree, exp.Union):
        return [], [tree]
    left, right = _parts(tree.this), _parts(tree.expression)
    return [tree, *left[0], *right[0]], [*left[1], *right[1]]


def _shows_a_key(select: exp.Select, tables: Mapping[TableName, TableFacts]) -> bool:
    source = select.args.get("from_")
    if source is None or not isinstance(source.this, exp.Table):
        return False
    facts = known_table(tables, source.this)
    if facts is None or not plain(select, *_MAKES_OTHER_ROWS):
        return False
    shown = [each.unalias() for each in select.expressions]
    return is_unique(facts, [each.name for each in shown if isinstance(each, exp.Column)])


def _differ(one: exp.Select, other: exp.Select) -> bool:
    """Whether a constant in the same place keeps their rows apart, in whatever order of texts."""
    return any(
        _apart(mine.unalias(), theirs.unalias())
        for mine, theirs in zip(one.expressions, other.expressions, strict=False)
    )


def _apart(mine: exp.Expr, theirs: exp.Expr) -> bool:
    if not isinstance(mine, exp.Literal) or not isinstance(theirs, exp.Literal):
        return False
    if mine.is_string != theirs.is_string:
        return False
    texts = [str(each.this) for each in (mine, theirs)]
    if not mine.is_string:
        return float(texts[0]) != float(texts[1])
    # An order of texts may take letters of other cases, accents and spaces behind for the same.
    plain_texts = all(text.isascii() and text.isalnum() for text in texts)
    return plain_texts and texts[0].lower() != texts[1].lower()
