"""Indexes for the sides of OR: each leads to the rows of one, and none is of use without all."""

from __future__ import annotations

from collections.abc import Iterator

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.candidates.accesses import bared
from humble_ledger.core.remedies.candidates.keys import as_keys, columns_in, served
from humble_ledger.core.remedies.candidates.model import Access, Candidate
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.facts import IndexKey
from humble_ledger.core.statements.conditions import predicates
from humble_ledger.core.statements.parting import alternatives

MOST_SIDES = 4
_MOST_KEYS = 2


def either(plan: Plan, access: Access) -> Iterator[Candidate]:
    """For each side that no index leads to, beside those for the other such sides."""
    for predicate in access.others:
        sides = alternatives(predicate.sql) if predicate.choices else []
        if not 2 <= len(sides) <= MOST_SIDES:
            continue
        wanted = [_keys(side, access) for side in sides]
        if not all(wanted):
            continue  # of a side that no index finds all rows must be read anyway
        missing = dict.fromkeys(
            IndexDesign(access.table.name, keys)
            for keys in wanted
            if not served(keys[:1], access.table)
        )
        for design in missing:
            others = tuple(other for other in missing if other != design)
            words = "one side of OR"
            if others:
                words += f", beside {' and '.join(f'({_named(other)})' for other in others)}"
            yield Candidate(design, access, words, others)


def _named(design: IndexDesign) -> str:
    return ", ".join(design.key_columns)


def _keys(side: str, access: Access) -> tuple[IndexKey, ...]:
    """The columns of this table that one side compares; empty when it cannot be searched for."""
    own = [
        p for p in (bared(each, access.table) for each in predicates(side))
        if p.column and p.column.alias in (access.alias, "") and p.partner is None and p.searchable
    ]  # fmt: skip
    equal = [p for p in own if p.equal]
    ranges = [p for p in own if not p.equal]
    return tuple(as_keys(columns_in([*equal, *ranges[:1]])[:_MOST_KEYS]))
