"""Indexes on the few rows that a condition which is always the same leaves."""

from __future__ import annotations

import re
from collections.abc import Iterator

from humble_ledger.core.messages import Message, message
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.candidates.keys import (
    MOST_EQUALITIES,
    as_keys,
    by_telling,
    columns_in,
    served,
)
from humble_ledger.core.remedies.candidates.model import Access, Candidate, IndexAbilities
from humble_ledger.core.remedies.candidates.uses import serves
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.facts import IndexKey
from humble_ledger.core.statements.conditions import Predicate, PredicateKind
from humble_ledger.core.statements.parting import has_parameter, unqualified

_TEXT = re.compile(r"('(?:[^']|'')*')::text\b(?!\[)")
_MOST_BOUNDS = 2  # more make an index for one query alone
_MOST_VALUES = 20  # a column with more of them is hardly asked for the same one forever
_KINDS = (PredicateKind.EQUALITY, PredicateKind.MEMBERSHIP, PredicateKind.NULL_TEST)


def partial(plan: Plan, access: Access, means: IndexAbilities) -> Iterator[Candidate]:
    """Keys from the other conditions, the order or the joins, for the rows of the constant ones."""
    constant = [p for p in access.conditions if _may_bound(p, access, means)]
    for bounds in _bounds(constant):
        predicate = " AND ".join(as_bound(p, access) for p in bounds)
        fixed = columns_in(bounds)
        for keys, equal, use in _keys(access, fixed):
            if not served(keys, access.table, f"({predicate})"):
                yield Candidate(
                    IndexDesign(access.table.name, keys, predicate=predicate),
                    access,
                    serves(use, equal=equal, where=[p.plain for p in bounds]),
                )


def as_bound(predicate: Predicate, access: Access) -> str:
    """A condition as an index's own: without its table, and without a type that needs no word."""
    text = unqualified(predicate.sql, access.alias)
    column = predicate.column and access.table.columns.get(predicate.column.column)
    return _TEXT.sub(r"\1", text) if column and column.type_name == "text" else text


def _bounds(constant: list[Predicate]) -> Iterator[list[Predicate]]:
    if len(constant) == _MOST_BOUNDS:
        yield constant
    for one in constant:
        yield [one]


def _may_bound(predicate: Predicate, access: Access, means: IndexAbilities) -> bool:
    """A plain test of a column whose constants never change; of rows, not of other tables."""
    column = predicate.column
    if column is None or predicate.partner is not None or column.column not in access.table.columns:
        return False
    if has_parameter(predicate.sql) or predicate.of_sub_query:
        return False
    type_ = access.table.columns[column.column].type_name
    truth = type_ == "boolean" and predicate.kind in (PredicateKind.OTHER, PredicateKind.TRUTH)
    plain = predicate.kind in _KINDS and (predicate.searchable or predicate.negated)
    test = predicate.kind is PredicateKind.NULL_TEST or truth
    values = access.table.columns[column.column].distinct_values(access.table.rows)
    usual = plain and values is not None and values <= _MOST_VALUES and means.always(predicate)
    if not (test or usual):
        return False
    return means.is_immutable(access.table.name, unqualified(predicate.sql, access.alias))


def _keys(
    access: Access, fixed: list[str]
) -> Iterator[tuple[tuple[IndexKey, ...], list[str], Message | None]]:
    """Keys with those of them that are compared for equality, and what else they are for."""
    equal = [name for name in by_telling(access) if name not in fixed][:MOST_EQUALITIES]
    found = False
    for column in columns_in(access.ranges):
        if column not in (*equal, *fixed):
            found = True
            by_range = message("index-for-range", column=column)
            yield tuple(as_keys([*equal, column])), equal, by_range
    order = [key for key in access.order if key.column not in (*equal, *fixed)]
    if order:
        found = True
        in_order = message("index-for-order", columns=[key.column for key in order])
        yield (*as_keys(equal), *order), equal, in_order
    for column in columns_in(access.joins):
        if column not in (*equal, *fixed):
            found = True
            yield tuple(as_keys([column, *equal])), [], message("index-for-join", column=column)
    if equal:
        yield tuple(as_keys(equal)), equal, None
    elif not found:
        yield tuple(as_keys(fixed[:1])), [], message("index-for-any-rows")
