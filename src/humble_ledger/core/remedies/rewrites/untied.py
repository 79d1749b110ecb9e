"""Tables that nothing ties together: questions to whoever knows what was meant."""

from __future__ import annotations

from collections.abc import Iterator

from sqlglot import exp

from humble_ledger.core.remedies.rewrites.model import (
    Reading,
    Rewriting,
    all_conditions,
    only_inner_joins,
    sources,
)
from humble_ledger.core.schema.facts import ForeignKey
from humble_ledger.core.statements.conjuncts import and_all


def questions(reading: Reading) -> Iterator[Rewriting]:
    """For each two groups of tables without a tie: the one a foreign key suggests, or none.

    A tie changes the result, and so does leaving a table out: neither is done silently.
    """
    tree = reading.tree
    if len(reading.tables) < 2 or not only_inner_joins(tree):
        return
    conditions = all_conditions(tree)
    groups = _groups(reading, conditions)
    if len(groups) < 2:
        return
    for one in groups:
        for other in groups:
            if one is not other:
                yield from _suggested(reading, one, other)
    shown = set().union(*(reading.aliases_in(e) for e in tree.expressions))
    if "" in shown:
        return
    for group in groups:
        if not group & shown and len(groups) == 2:
            yield _without(reading, group, conditions)


def _groups(reading: Reading, conditions: list[exp.Expr]) -> list[set[str]]:
    groups = [{alias} for alias in reading.tables]
    for condition in conditions:
        named = reading.aliases_in(condition) - {""}
        touched = [group for group in groups if group & named]
        if len(touched) > 1:
            groups = [g for g in groups if g not in touched] + [set().union(*touched)]
    return groups


def _suggested(reading: Reading, one: set[str], other: set[str]) -> Iterator[Rewriting]:
    """Ties by foreign keys from a table of the one group to a table of the other."""
    for alias in sorted(one):
        for key in reading.tables[alias].foreign_keys:
            for target in sorted(other):
                if reading.tables[target].name == key.refers_to:
                    yield _tied(reading, alias, target, key)


def _tied(reading: Reading, alias: str, target: str, key: ForeignKey) -> Rewriting:
    tree = reading.copy()
    ties = [
        exp.EQ(this=exp.column(mine, table=alias), expression=exp.column(theirs, table=target))
        for mine, theirs in zip(key.columns, key.refers_to_columns, strict=True)
    ]
    words = " and ".join(reading.words(tie) for tie in ties)
    tree = tree.where(*ties, copy=False)
    return Rewriting(
        reading.written(tree),
        f"a question: was {words} meant, as the foreign key has it?",
        "a cross join of the two is not what is wanted",
        question=True,
        against=("missing-join-condition",),
    )


def _without(reading: Reading, group: set[str], conditions: list[exp.Expr]) -> Rewriting:
    tree = reading.copy()
    kept = [s.copy() for s in sources(reading.tree) if s.alias_or_name not in group]
    names = " and ".join(sorted(reading.tables[a].name.name for a in group))
    tree.set("from_", exp.From(this=kept[0]))
    tree.set("joins", [exp.Join(this=each) for each in kept[1:]])
    rest = and_all(c for c in conditions if not reading.aliases_in(c) & group)
    tree.set("where", exp.Where(this=rest) if rest is not None else None)
    distinct = bool(reading.tree.args.get("distinct"))
    return Rewriting(
        reading.written(tree),
        f"a question: is {names} needed? Nothing ties it to the rest, and nothing of it is shown",
        f"{names} has at least one row that meets its conditions"
        if distinct
        else f"exactly one row of {names} meets its conditions",
        question=True,
        against=("missing-join-condition",),
    )
