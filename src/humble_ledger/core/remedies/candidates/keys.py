"""Plain keys: equality columns first, then one range or the order; columns that join."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from humble_ledger.core.messages import Message, message
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.candidates.model import Access, Candidate
from humble_ledger.core.remedies.candidates.uses import serves
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.facts import IndexKey, TableFacts
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.statements.conditions import Predicate

MOST_EQUALITIES = 4


def plain(plan: Plan, access: Access) -> Iterator[Candidate]:
    """The indexes on bare columns for one access."""
    for columns, reason in _column_lists(access):
        keys = tuple(columns)
        if keys and not served(keys, access.table):
            yield Candidate(IndexDesign(access.table.name, keys), access, reason)


def _column_lists(access: Access) -> Iterator[tuple[list[IndexKey], Message]]:
    equal = by_telling(access)[:MOST_EQUALITIES]
    ranges = columns_in(access.ranges)
    joins = [name for name in columns_in(access.joins) if name not in equal]
    if equal:
        yield as_keys(equal), serves(equal=equal)
        if len(equal) > 1:
            yield as_keys(equal[:1]), serves(equal=equal[:1])
    for column in ranges:
        if column not in equal:
            by_range = message("index-for-range", column=column)
            yield as_keys([*equal, column]), serves(by_range, equal=equal)
    if access.order:
        order = [key for key in access.order if key.column not in equal]
        in_order = message("index-for-order", columns=[key.column for key in order])
        if order:
            yield [*as_keys(equal), *order], serves(in_order, equal=equal)
    for column in joins:
        join = message("index-for-join", column=column)
        yield as_keys([column]), serves(join)
        if equal:
            yield as_keys([column, *equal]), serves(join, equal=equal, first=True)
            yield as_keys([*equal, column]), serves(join, equal=equal)


def as_keys(columns: Iterable[str]) -> list[IndexKey]:
    """Columns as ascending keys."""
    return [IndexKey(column) for column in columns]


def columns_in(found: Iterable[Predicate]) -> list[str]:
    """The columns of some predicates, each once."""
    return list(dict.fromkeys(p.column.column for p in found if p.column))


def by_telling(access: Access) -> list[str]:
    """Equality columns, the one with the most distinct values first."""

    def distinct(name: str) -> float:
        column = access.table.columns.get(name)
        return (column.distinct_values(access.table.rows) if column else None) or 0.0

    return sorted(columns_in(access.equalities), key=distinct, reverse=True)


def served(keys: tuple[IndexKey, ...], table: TableFacts, predicate: str = "") -> bool:
    """Whether an index begins with the same columns in the same order and direction."""
    return any(
        index.valid
        and index.method == IndexMethod.SORTED
        and index.predicate in ("", predicate)
        and index.keys[: len(keys)] == keys
        for index in table.indexes
    )
