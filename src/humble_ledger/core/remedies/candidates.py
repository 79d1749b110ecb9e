"""Indexes worth a look for one plan, from the conditions and orders that stand in it.

For each table a plan reads: the columns compared for equality come first, the most telling
one in front; behind them one range, or the order that is asked for; the columns that join
it to other tables serve a nested loop. What an existing index already begins with is left
out. Whether a candidate is any good is for the prediction to say.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from itertools import pairwise

from humble_ledger.core.plans.model import SCANS, Node, Operation, Plan
from humble_ledger.core.plans.paths import path_to
from humble_ledger.core.remedies.model import IndexDesign
from humble_ledger.core.schema.facts import IndexKey, TableFacts, TableName
from humble_ledger.core.statements.conditions import (
    Predicate,
    PredicateKind,
    columns_of,
    predicates,
)
from humble_ledger.core.statements.tokens import meaningful

FEWEST_PAGES = 8  # smaller tables are read whole faster than any index helps
MOST_EQUALITIES = 4
FEWEST_LOOKUPS = 1_000.0  # rows read, below which a covering index saves little
MOST_ADDED = 3
MOST_ADDED_BYTES = 64


@dataclass(frozen=True, slots=True)
class Access:
    """How a plan reads one table under one alias: conditions on it alone, joins, order."""

    node: Node
    table: TableFacts
    alias: str
    equalities: tuple[Predicate, ...]
    ranges: tuple[Predicate, ...]
    others: tuple[Predicate, ...]
    joins: tuple[Predicate, ...]
    order: tuple[IndexKey, ...]


@dataclass(frozen=True, slots=True)
class Candidate:
    """An index that might serve one access, and why it came up."""

    design: IndexDesign
    access: Access
    reason: str


def accesses(plan: Plan, tables: Mapping[TableName, TableFacts]) -> Iterator[Access]:
    """Every reading of a base table in a plan."""
    orders = [n.sort_keys for n in plan.nodes() if n.operation in _SORTS]
    joins = [p for n in plan.nodes() for text in n.conditions.join for p in predicates(text)]
    for node in plan.nodes():
        table = tables.get(TableName(node.schema, node.relation))
        if node.operation not in SCANS or table is None or table.kind != "table":
            continue
        alias = node.alias or node.relation
        below = [n for n in node.walk() if n.operation is Operation.BITMAP_INDEX]
        texts = [*node.conditions.filter, *node.conditions.search]
        texts += [text for n in below for text in n.conditions.search]
        own = list(dict.fromkeys(p for text in texts for p in predicates(text)))
        on_it = [p for p in own if p.column and p.column.alias in (alias, "")]
        constant = [p for p in on_it if p.partner is None]
        yield Access(
            node=node,
            table=table,
            alias=alias,
            equalities=tuple(p for p in constant if p.searchable and p.kind in _EQUAL),
            ranges=tuple(p for p in constant if p.searchable and p.kind is PredicateKind.RANGE),
            others=tuple(
                p for p in own if not (p in constant and p.searchable) and p.partner is None
            ),
            joins=tuple(_join_side(p, alias) for p in [*joins, *on_it] if _joins(p, alias)),
            order=_order(orders, alias, table),
        )


def candidates(plan: Plan, tables: Mapping[TableName, TableFacts]) -> list[Candidate]:
    """Every candidate for a plan, without those that an existing index already serves."""
    found: dict[IndexDesign, Candidate] = {}
    for access in accesses(plan, tables):
        if access.table.pages < FEWEST_PAGES:
            continue
        for columns, reason in _column_lists(access):
            keys = tuple(columns)
            if not keys or _served(keys, access.table):
                continue
            design = IndexDesign(access.table.name, keys)
            found.setdefault(design, Candidate(design, access, reason))
        for each in _covering(plan, access):
            found.setdefault(each.design, each)
    return list(found.values())


def needed_columns(plan: Plan, access: Access) -> set[str]:
    """The columns of a table that a plan needs of it.

    A scan may hand on every column because that costs nothing; what is needed shows in what
    the step above it puts out and tests.
    """
    texts = [*access.node.conditions.all()]
    texts += [t for n in access.node.walk() for t in n.conditions.all()]
    above = path_to(plan.root, access.node)[-2:-1]
    for node in above or [access.node]:
        texts += [*node.output, *node.conditions.all(), *node.sort_keys, *node.group_keys]
    mine = (access.alias, "")
    return {ref.column for text in texts for ref in columns_of(text) if ref.alias in mine}


def _covering(plan: Plan, access: Access) -> Iterator[Candidate]:
    """Indexes that hold all that is needed of many rows, so that the table need not be read."""
    table, node = access.table, access.node
    rows = (node.rows_seen if node.loops else node.rows_expected) or 0.0
    needed = needed_columns(plan, access)
    if rows * max(node.loops or 1.0, 1.0) < FEWEST_LOOKUPS or not needed <= set(table.columns):
        return
    equal = _by_telling(access)[:MOST_EQUALITIES]
    ranges = [name for name in _columns(access.ranges) if name not in equal]
    for columns in ([*equal], *([*equal, name] for name in ranges)):
        added = tuple(name for name in table.columns if name in needed - set(columns))
        width = sum(_width(table, name) for name in added)
        if not columns or not added or len(added) > MOST_ADDED or width > MOST_ADDED_BYTES:
            continue
        design = IndexDesign(table.name, tuple(_keys(columns)), added)
        if not _held(design, table):
            words = f"{' and '.join(columns)} searched for, {' and '.join(added)} read from it"
            yield Candidate(design, access, words)


def _width(table: TableFacts, name: str) -> int:
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


_SORTS = (Operation.SORT, Operation.INCREMENTAL_SORT)
_EQUAL = (PredicateKind.EQUALITY, PredicateKind.MEMBERSHIP)


def _column_lists(access: Access) -> Iterator[tuple[list[IndexKey], str]]:
    equal = _by_telling(access)[:MOST_EQUALITIES]
    ranges = _columns(access.ranges)
    joins = [name for name in _columns(access.joins) if name not in equal]
    named = " and ".join(equal)
    if equal:
        yield _keys(equal), f"equality on {named}"
        if len(equal) > 1:
            yield _keys(equal[:1]), f"equality on {equal[0]}"
    for column in ranges:
        if column not in equal:
            words = f"equality on {named}, range on {column}" if equal else f"range on {column}"
            yield _keys([*equal, column]), words
    if access.order:
        order = [key for key in access.order if key.column not in equal]
        words = f"order by {', '.join(key.column for key in order)}"
        if order:
            yield [*_keys(equal), *order], f"equality on {named}, {words}" if equal else words
    for column in joins:
        yield _keys([column]), f"join on {column}"
        if equal:
            yield _keys([column, *equal]), f"join on {column}, equality on {named}"
            yield _keys([*equal, column]), f"equality on {named}, join on {column}"


def _keys(columns: Iterable[str]) -> list[IndexKey]:
    return [IndexKey(column) for column in columns]


def _columns(found: Iterable[Predicate]) -> list[str]:
    return list(dict.fromkeys(p.column.column for p in found if p.column))


def _by_telling(access: Access) -> list[str]:
    """Equality columns, the one with the most distinct values first."""

    def distinct(name: str) -> float:
        column = access.table.columns.get(name)
        return (column.distinct_values(access.table.rows) if column else None) or 0.0

    return sorted(_columns(access.equalities), key=distinct, reverse=True)


def _joins(predicate: Predicate, alias: str) -> bool:
    if predicate.kind is not PredicateKind.EQUALITY or not predicate.searchable:
        return False
    sides = (predicate.column, predicate.partner)
    aliases = [side.alias for side in sides if side is not None]
    return len(aliases) == 2 and alias in aliases and aliases[0] != aliases[1]


def _join_side(predicate: Predicate, alias: str) -> Predicate:
    """The same join seen from this table: its own column first."""
    if predicate.column is not None and predicate.column.alias == alias:
        return predicate
    return Predicate(
        predicate.kind, predicate.sql, predicate.partner, operator="=", partner=predicate.column
    )


def _order(
    orders: Iterable[tuple[str, ...]], alias: str, table: TableFacts
) -> tuple[IndexKey, ...]:
    """The sort keys of the first sort whose keys are all columns of this table."""
    for keys in orders:
        read = [_sort_key(key, alias, table) for key in keys]
        if read and all(read):
            return tuple(key for key in read if key is not None)
    return ()


def _sort_key(text: str, alias: str, table: TableFacts) -> IndexKey | None:
    """«r.taken_at DESC NULLS LAST» as a key; None for expressions and other tables."""
    words = meaningful(text)
    descending = any(t.is_word("desc") for t in words)
    nulls_first = descending
    for before, token in pairwise(words):
        if before.is_word("nulls"):
            nulls_first = token.is_word("first")
    name = [t for t in words if not t.is_word("desc", "asc", "nulls", "first", "last")]
    texts = [t.text.strip('"') for t in name]
    if len(texts) == 3 and texts[1] == "." and texts[0] == alias:
        column = texts[2]
    elif len(texts) == 1:
        column = texts[0]
    else:
        return None
    return IndexKey(column, "", descending, nulls_first) if column in table.columns else None


def _served(keys: tuple[IndexKey, ...], table: TableFacts) -> bool:
    """Whether an index begins with the same columns in the same order and direction."""
    return any(
        index.valid
        and index.method == "btree"
        and not index.predicate
        and index.keys[: len(keys)] == keys
        for index in table.indexes
    )
