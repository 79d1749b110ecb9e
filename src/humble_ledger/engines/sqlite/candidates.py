"""Indexes that only SQLite has a use for: in the order in which a comparison is made.

LIKE ignores case, so that only an index that is sorted without it (COLLATE NOCASE) finds a
beginning; GLOB and = go by the column's own order (manual, "The LIKE Optimization").
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from humble_ledger.core.messages import message
from humble_ledger.core.remedies.candidates.keys import as_keys, by_telling
from humble_ledger.core.remedies.candidates.model import Access, Candidate
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.facts import IndexKey
from humble_ledger.core.statements.conditions import Predicate, PredicateKind, Wrapping

_COLLATE = re.compile(r'COLLATE "(\w+)"')
_PATTERN = re.compile(r"\b(?:LIKE|GLOB) '((?:[^']|'')*)'")
_WILDCARDS = ("", "%", "_", "*", "?", "[")
_MOST_BEFORE = 2  # columns searched for one value, in front of it


def in_another_order(access: Access) -> Iterator[Candidate]:
    """One for each pattern with a beginning, and for each comparison by another order."""
    found = (*access.equalities, *access.ranges, *access.others)
    for predicate in found:
        column = predicate.column and access.table.columns.get(predicate.column.column)
        if not column or predicate.negated or predicate.wrapping is not Wrapping.NONE:
            continue
        asked = _COLLATE.search(predicate.sql)
        pattern = predicate.kind is PredicateKind.PATTERN
        if pattern and not _beginning(predicate):
            continue
        if not pattern and (asked is None or asked[1] == column.collation):
            continue
        wanted = asked[1] if asked is not None else column.collation
        key = IndexKey(column.name, collation="" if wanted == column.collation else wanted)
        asked_for = predicate.plain
        use = (
            message("index-for-beginning", condition=asked_for)
            if pattern
            else message("index-by-collation", condition=asked_for, collation=wanted)
        )
        equal = [name for name in by_telling(access) if name != column.name][:_MOST_BEFORE]
        for columns in ([], equal) if equal else ([],):
            keys = (*as_keys(columns), key)
            if not any(
                i.keys[: len(keys)] == keys and not i.predicate for i in access.table.indexes
            ):
                yield Candidate(IndexDesign(access.table.name, keys), access, use)


def _beginning(predicate: Predicate) -> bool:
    """Whether a pattern is known and begins with a letter."""
    found = _PATTERN.search(predicate.sql)
    return found is not None and found[1][:1] not in _WILDCARDS
