"""Indexes that serve several queries at once, made of those that serve one each."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import permutations

from humble_ledger.core.messages import Message, message
from humble_ledger.core.remedies.candidates.covering import MOST_ADDED
from humble_ledger.core.remedies.candidates.keys import columns_in, served
from humble_ledger.core.remedies.candidates.model import Candidate
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.index_methods import IndexMethod


def merged(candidates: Iterable[Candidate]) -> Iterator[Candidate]:
    """For each two on one table: one that begins as the first and has all of the second.

    Columns compared for equality may stand in any order, so the ones the first searches by go
    to the front; columns read from the first are added to one that begins with its keys.
    """
    plain = [
        c for c in candidates if c.design.method == IndexMethod.SORTED and not _special(c.design)
    ]
    for one, other in permutations(plain, 2):
        if one.design.table != other.design.table:
            continue
        for design in (_reordered(one, other), _with_added(one.design, other.design)):
            if design is not None and not served(design.keys, other.access.table):
                yield Candidate(design, other.access, _of_both(one, other))


def _of_both(one: Candidate, other: Candidate) -> Message:
    return message("index-for-both", one=one.reason, other=other.reason)


def _special(design: IndexDesign) -> bool:
    return bool(design.predicate) or any(k.expression or k.operator_class for k in design.keys)


def _reordered(one: Candidate, other: Candidate) -> IndexDesign | None:
    front, all_keys = one.design.keys, other.design.keys
    free = set(columns_in(other.access.equalities))
    if other.design.included or not set(front) < set(all_keys) or front == all_keys[: len(front)]:
        return None
    if not {key.column for key in front} <= free:
        return None
    return IndexDesign(other.design.table, (*front, *(k for k in all_keys if k not in front)))


def _with_added(one: IndexDesign, other: IndexDesign) -> IndexDesign | None:
    if not one.included or other.keys[: len(one.keys)] != one.keys:
        return None
    held = {*other.key_columns, *other.included}
    added = tuple(dict.fromkeys((*other.included, *(c for c in one.included if c not in held))))
    if added == other.included or len(added) > MOST_ADDED:
        return None
    return IndexDesign(other.table, other.keys, added)
