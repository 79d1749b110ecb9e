"""The sides of OR in the conditions of a step, each as if it were asked for alone."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from humble_ledger.core.remedies.candidates.accesses import bared, searched_for
from humble_ledger.core.remedies.candidates.model import Access
from humble_ledger.core.statements.conditions import predicates
from humble_ledger.core.statements.parting import alternatives

MOST_SIDES = 4


def asked_apart(access: Access) -> Iterator[tuple[Access, ...]]:
    """For each OR over columns of the table, what every side asks for, beside all other conditions.

    None where a side has no condition that an index could be searched by: all rows must be read
    for it anyway.
    """
    for predicate in access.others:
        sides = alternatives(predicate.sql) if predicate.choices else []
        if not 2 <= len(sides) <= MOST_SIDES:
            continue
        apart = tuple(_alone(side, access, predicate.sql) for side in sides)
        if all(each.equalities or each.ranges for each in apart):
            yield apart


def _alone(side: str, access: Access, whole: str) -> Access:
    """One side: only its own conditions can lead to its rows."""
    found = [bared(each, access.table) for each in predicates(side)]
    own = searched_for(found, access.alias)
    left = [p for p in access.conditions if p.sql != whole]
    return replace(
        access,
        equalities=tuple(p for p in own if p.equal),
        ranges=tuple(p for p in own if not p.equal),
        others=(*(p for p in found if p not in own), *left),
        joins=(),
        met=(),
        order=(),
        groups=(),
    )
