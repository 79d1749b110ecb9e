"""Indexes for the sides of OR: each leads to the rows of one, and none is of use without all."""

from __future__ import annotations

from collections.abc import Iterator

from humble_ledger.core.messages import message
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.candidates.keys import as_keys, by_telling, columns_in, served
from humble_ledger.core.remedies.candidates.model import Access, Candidate
from humble_ledger.core.remedies.candidates.sides import asked_apart
from humble_ledger.core.remedies.design import IndexDesign

_MOST_KEYS = 2


def either(plan: Plan, access: Access) -> Iterator[Candidate]:
    """For each side that no index leads to, beside those for the other such sides."""
    for sides in asked_apart(access):
        columns = [[*by_telling(side), *columns_in(side.ranges[:1])][:_MOST_KEYS] for side in sides]
        missing = dict.fromkeys(
            IndexDesign(access.table.name, tuple(as_keys(dict.fromkeys(names))))
            for names in columns
            if not served(tuple(as_keys(names[:1])), access.table)
        )
        for design in missing:
            others = tuple(other for other in missing if other != design)
            side = message("index-for-side", beside=[_named(other) for other in others])
            yield Candidate(design, access, side, others)


def _named(design: IndexDesign) -> str:
    return ", ".join(design.key_columns)
