"""Indexes that hold all that is needed of many rows, so that the table need not be read."""

from __future__ import annotations

from collections.abc import Iterator

from humble_ledger.core.messages import Message, message
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.candidates.accesses import needed_columns
from humble_ledger.core.remedies.candidates.keys import (
    MOST_EQUALITIES,
    as_keys,
    by_telling,
    columns_in,
)
from humble_ledger.core.remedies.candidates.model import Access, Candidate
from humble_ledger.core.remedies.candidates.uses import serves
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.facts import TableFacts

FEWEST_LOOKUPS = 1_000.0  # rows read, below which a covering index saves little
MOST_ADDED = 3
MOST_ADDED_BYTES = 64


def covering(plan: Plan, access: Access) -> Iterator[Candidate]:
    """Keys to search, order or group by, with the other columns a plan needs beside them."""
    table, node = access.table, access.node
    rows = (node.rows_seen if node.loops else node.rows_expected) or 0.0
    needed = needed_columns(plan, access)
    if rows * max(node.loops or 1.0, 1.0) < FEWEST_LOOKUPS or not needed <= set(table.columns):
        return
    for columns in _leads(access):
        added = tuple(name for name in table.columns if name in needed - set(columns))
        width = sum(width_of(table, name) for name in added)
        if not columns or len(added) > MOST_ADDED or width > MOST_ADDED_BYTES:
            continue
        if not added and not access.groups:
            continue  # a plain candidate already
        design = IndexDesign(table.name, tuple(as_keys(columns)), added)
        if not _held(design, table):
            yield Candidate(design, access, _reason(access, columns, added))


def _leads(access: Access) -> Iterator[list[str]]:
    equal = by_telling(access)[:MOST_EQUALITIES]
    yield equal
    for name in columns_in(access.ranges):
        if name not in equal:
            yield [*equal, name]
    if access.groups:
        yield [*equal, *(name for name in access.groups if name not in equal)]


def _reason(access: Access, columns: list[str], added: tuple[str, ...]) -> Message:
    groups = list(access.groups)
    grouped = bool(groups) and columns[-len(groups) :] == groups
    if grouped:
        return serves(message("index-for-groups", columns=groups, all_read=not added), read=added)
    return serves(message("index-for-search", columns=columns, all_read=not added), read=added)


def width_of(table: TableFacts, name: str) -> int:
    """The mean length of a column's values in bytes; more than is worth adding when unknown."""
    column = table.columns[name]
    if column.length_bytes > 0:
        return column.length_bytes
    return column.mean_width_bytes or MOST_ADDED_BYTES + 1


def _held(design: IndexDesign, table: TableFacts) -> bool:
    """Whether an index begins with these keys and holds the other columns already."""
    return any(
        index.valid
        and not index.predicate
        and index.keys[: len(design.keys)] == design.keys
        and set(design.included) <= {*index.key_columns, *index.included}
        for index in table.indexes
    )
