"""Trees of enclosing shapes: for geometry, ranges, and whatever lies near."""

from __future__ import annotations

from collections.abc import Iterator

from humble_ledger.core.messages import Message, message
from humble_ledger.core.plans.model import SORTS, Plan
from humble_ledger.core.remedies.candidates.model import Access, Candidate, IndexAbilities
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.containment import inverted_class
from humble_ledger.core.schema.enclosing import Sought, holding, nearest, sought
from humble_ledger.core.schema.facts import ColumnFacts
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.statements.conditions import predicates


def enclosing(plan: Plan, access: Access, means: IndexAbilities) -> Iterator[Candidate]:
    """For conditions on the table, conditions that join it by shape, and the nearest first.

    Not where an index from a value's parts to its rows finds the same: words and elements have no
    shape, and a tree of what they may be among is larger, and leads to rows in vain.
    """
    alias, table = access.alias, access.table
    own = [p.sql for p in access.others]
    joining = [
        p.sql for node in plan.nodes() for text in (*node.conditions.join, *node.conditions.filter)
        for p in predicates(text)
    ]  # fmt: skip
    for text in dict.fromkeys([*own, *joining]):
        for each in sought(text, table, alias):
            if each.column and _in_parts(text, table.columns[each.column], means):
                continue
            use = message("index-for-shapes", by=each.by, of=each.of, expression=not each.column)
            yield from _on(access, each, use)
    for node in plan.nodes():
        if node.operation in SORTS and node.sort_keys:
            first = nearest(node.sort_keys[0], table, alias)
            if first is not None:
                use = message("index-for-nearest", of=first.of, expression=not first.column)
                yield from _on(access, first, use)


def _in_parts(text: str, column: ColumnFacts, means: IndexAbilities) -> bool:
    asked = (inverted_class(each, column) for each in predicates(text))
    return IndexMethod.INVERTED in means.methods and any(found is not None for found in asked)


def _on(access: Access, each: Sought, reason: Message) -> Iterator[Candidate]:
    if holding(access.table, each) is None:
        design = IndexDesign(access.table.name, (each.key,), method=IndexMethod.ENCLOSING)
        yield Candidate(design, access, reason)
