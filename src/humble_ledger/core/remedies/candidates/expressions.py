"""Indexes on an expression that a condition compares with constants."""

from __future__ import annotations

import re
from collections.abc import Iterator

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.candidates.keys import (
    MOST_EQUALITIES,
    as_keys,
    by_telling,
)
from humble_ledger.core.remedies.candidates.model import Access, Candidate, IndexAbilities
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.facts import IndexKey, TableFacts
from humble_ledger.core.statements.conditions import Predicate, PredicateKind, Wrapping
from humble_ledger.core.statements.parting import halves, same_text, unqualified

# One call, which needs no brackets of its own as a key.
_CALL = re.compile(r"(?!extract\()[a-z_][a-z0-9_]*\([^()]*\)")
_KINDS = (PredicateKind.EQUALITY, PredicateKind.MEMBERSHIP, PredicateKind.RANGE)


def expressions(plan: Plan, access: Access, means: IndexAbilities) -> Iterator[Candidate]:
    """An index on each expression, alone and behind the columns compared for equality."""
    equal = by_telling(access)[:MOST_EQUALITIES]
    for predicate in access.others:
        text = expression_of(predicate, access.alias)
        if not text or not means.is_immutable(access.table.name, text):
            continue
        key = IndexKey("", text if _CALL.fullmatch(text) else f"({text})")
        for columns in ([], equal) if equal else ([],):
            keys = (*as_keys(columns), key)
            if not _served(keys, access.table):
                words = f"equality on {' and '.join(columns)}, " if columns else ""
                words += (
                    f'"{predicate.plain}" compares an expression, not the column (for when the '
                    "statement cannot be written otherwise)"
                )
                yield Candidate(IndexDesign(access.table.name, keys), access, words)


def expression_of(predicate: Predicate, alias: str) -> str:
    """The expression of a column that is compared with constants; "" when it is none."""
    if predicate.kind not in _KINDS or predicate.wrapping is Wrapping.NONE or predicate.negated:
        return ""
    parted = halves(predicate.sql)
    if parted is None or predicate.column is None or predicate.column.column not in parted[0]:
        return ""
    return unqualified(parted[0], alias)


def _served(keys: tuple[IndexKey, ...], table: TableFacts) -> bool:
    return any(
        index.valid and not index.predicate and len(index.keys) >= len(keys)
        and all(_same(a, b) for a, b in zip(index.keys, keys, strict=False))
        for index in table.indexes
    )  # fmt: skip


def _same(one: IndexKey, other: IndexKey) -> bool:
    return one.column == other.column and same_text(one.expression, other.expression)
