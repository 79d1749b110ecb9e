"""How a plan reads its tables: the conditions, joins and orders that an index could serve."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

from humble_ledger.core.plans.model import SCANS, SORTS, Node, Operation, Plan, Role
from humble_ledger.core.plans.paths import path_to
from humble_ledger.core.plans.tables import alias_of
from humble_ledger.core.remedies.candidates.model import Access
from humble_ledger.core.schema.casts import real_wrapping
from humble_ledger.core.schema.facts import HOLDS_ROWS, IndexKey, TableFacts, TableName
from humble_ledger.core.schema.networks import lies_between
from humble_ledger.core.statements.conditions import (
    Predicate,
    PredicateKind,
    columns_of,
    is_readable,
    predicates,
)
from humble_ledger.core.statements.tokens import meaningful, unquoted

_GROUPS = (Operation.AGGREGATE, Operation.GROUP, Operation.DISTINCT)


def accesses(plan: Plan, tables: Mapping[TableName, TableFacts]) -> Iterator[Access]:
    """Every reading of a base table in a plan."""
    whole = _Whole.of(plan)
    for node in plan.nodes():
        table = tables.get(TableName(node.schema, node.relation))
        if node.operation in SCANS and table is not None and table.kind in HOLDS_ROWS:
            yield _access(whole, node, table)


@dataclass(frozen=True, slots=True)
class _Whole:
    """A plan with what all of its steps ask for: sort keys, joins, conditions of searches."""

    plan: Plan
    orders: list[tuple[str, ...]]
    joins: list[Predicate]
    searched: list[Predicate]

    @classmethod
    def of(cls, plan: Plan) -> _Whole:
        nodes = list(plan.nodes())
        return cls(
            plan,
            [node.sort_keys for node in nodes if node.operation in SORTS],
            _all_of(text for node in nodes for text in node.conditions.join),
            _all_of(text for node in nodes for text in node.conditions.search),
        )


def _all_of(texts: Iterable[str]) -> list[Predicate]:
    return [predicate for text in texts for predicate in predicates(text)]


def _access(whole: _Whole, node: Node, table: TableFacts) -> Access:
    alias, called = alias_of(node), names_of(node, table)
    own = _own_conditions(node, table)
    on_it = [p for p in own if p.column and p.column.alias in (alias, "")]
    searchable = searched_for(own, alias)
    orders = (_order(whole.orders, name, table) for name in called)
    groups = (_groups(whole.plan, node, name, table) for name in called)
    return Access(
        node=node,
        table=table,
        alias=alias,
        equalities=tuple(p for p in searchable if p.equal),
        ranges=tuple(p for p in searchable if p.kind is PredicateKind.RANGE),
        others=tuple(p for p in own if p.partner is None and p not in searchable),
        joins=tuple(_joining([*whole.joins, *on_it], called)),
        met=tuple(_joining(whole.searched, called)),
        order=next(filter(None, orders), ()),
        groups=next(filter(None, groups), ()),
    )


def searched_for(found: Iterable[Predicate], alias: str) -> list[Predicate]:
    """Those of some conditions that an index on this table's bare columns could be searched by."""
    return [
        p for p in found
        if p.column and p.column.alias in (alias, "") and p.partner is None and p.searchable
    ]  # fmt: skip


def _own_conditions(node: Node, table: TableFacts) -> list[Predicate]:
    """What a step tests itself, and what the indexes below it are searched by, each once."""
    below = [n for n in node.walk() if n.operation is Operation.BITMAP_INDEX]
    texts = [*node.conditions.filter, *node.conditions.search]
    texts += [text for n in below for text in n.conditions.search]
    return list(dict.fromkeys(bared(predicate, table) for predicate in _all_of(texts)))


def names_of(node: Node, table: TableFacts) -> tuple[str, ...]:
    """What a plan calls a table: a partition by its alias, and in steps above by its table's."""
    whole = node.whole_alias if table.root is not None else ""
    return (alias_of(node), whole) if whole else (alias_of(node),)


def _joining(found: Iterable[Predicate], called: Sequence[str]) -> Iterator[Predicate]:
    """The joins of a table by any of its names, seen from it."""
    for predicate in found:
        for name in called:
            if _joins(predicate, name):
                yield _join_side(predicate, name)
                break


def needed_columns(plan: Plan, access: Access, known: Collection[str] = ()) -> set[str]:
    """The columns of a table that a plan needs of it, but for those that every index has.

    A scan may hand on every column because that costs nothing; what is needed shows in what
    the step above it puts out and tests. The conditions in ``known`` need no test.
    """
    conditions = [t for n in access.node.walk() for t in n.conditions.all()]
    texts = [p.sql for text in conditions for p in predicates(text) if p.sql not in known]
    # What a sub-query puts out is its own; the step above that asks for it names no column.
    apart = access.node.role in (Role.SUBPLAN, Role.INIT_PLAN, Role.CTE)
    above = [] if apart else path_to(plan.root, access.node)[-2:-1]
    for node in above or [access.node]:
        texts += [*node.output, *node.conditions.all(), *node.sort_keys, *node.group_keys]
    mine = (*names_of(access.node, access.table), "")
    # Of what cannot be read every word may be a column: an index that holds it all serves anyway.
    unread = [text for text in texts if not is_readable(text)]
    words = {unquoted(token.text) for text in unread for token in meaningful(text)}
    named = {ref.column for text in texts for ref in columns_of(text) if ref.alias in mine}
    return (named | (words & access.table.columns.keys())) - access.table.in_every_index


def bared(predicate: Predicate, table: TableFacts) -> Predicate:
    """A predicate as an index on the column serves it.

    Without a cast that changes nothing; what lies within a network is between its two ends.
    """
    column = table.columns.get(predicate.column.column) if predicate.column else None
    kind = PredicateKind.RANGE if lies_between(predicate, column) else predicate.kind
    return replace(predicate, wrapping=real_wrapping(column, predicate), kind=kind)


def _groups(plan: Plan, node: Node, alias: str, table: TableFacts) -> tuple[str, ...]:
    """The columns of this table by which the first grouping step above it groups."""
    for step in reversed(path_to(plan.root, node)[:-1]):
        if step.operation in _GROUPS and step.group_keys:
            refs = [ref for key in step.group_keys for ref in columns_of(key)]
            mine = [r.column for r in refs if r.alias in (alias, "") and r.column in table.columns]
            return tuple(dict.fromkeys(mine)) if len(mine) == len(step.group_keys) else ()
        if len(step.children) > 1:
            return ()
    return ()


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
    """The key "r.taken_at DESC NULLS LAST" as a key; None for expressions and other tables."""
    words = meaningful(text)
    descending = any(t.is_word("desc") for t in words)
    nulls_first = descending
    for before, token in pairwise(words):
        if before.is_word("nulls"):
            nulls_first = token.is_word("first")
    name = [t for t in words if not t.is_word("desc", "asc", "nulls", "first", "last")]
    texts = [unquoted(t.text) for t in name]
    if len(texts) == 3 and texts[1] == "." and texts[0] == alias:
        column = texts[2]
    elif len(texts) == 1:
        column = texts[0]
    else:
        return None
    return IndexKey(column, "", descending, nulls_first) if column in table.columns else None
