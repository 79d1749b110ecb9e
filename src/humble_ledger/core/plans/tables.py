"""What a plan does with each table: how much it reads and keeps, where each column serves.

Several steps may read one table (under several aliases, or in sub-plans); they are added up.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum
from itertools import pairwise

from humble_ledger.core.plans.arithmetic import StepMetrics, accounts
from humble_ledger.core.plans.model import JOINS, Node, Operation, Plan, Role
from humble_ledger.core.plans.paths import path_to, rows_divided_by
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.conditions import columns_of, predicates
from humble_ledger.core.statements.tokens import unquoted

_PASSING = frozenset(
    (Operation.HASH, Operation.SORT, Operation.INCREMENTAL_SORT, Operation.MATERIALIZE,
     Operation.MEMOIZE, Operation.GATHER)
)  # fmt: skip


class Place(StrEnum):
    """Where a column serves."""

    SEARCH = "search"
    FILTER = "filter"
    JOIN = "join"
    SORT = "sort"
    GROUP = "group"
    OUTPUT = "output"


@dataclass(frozen=True, slots=True)
class TableAccount:
    """One table in a plan, all its scans added up.

    ``scans`` counts how often it was read (None when not measured), ``rows_read`` are rows
    looked at, ``rows_kept`` those that passed, both over all scans. Pages and self time of the
    scans, with the indexes they go through; ``share`` is their part of the plan's time (of
    its cost when not measured). ``columns`` tells where each column serves.
    """

    name: TableName
    aliases: tuple[str, ...]
    steps: tuple[int, ...]
    scans: float | None
    rows_expected: float
    rows_read: float | None
    rows_kept: float | None
    pages_cached: int | None
    pages_read: int | None
    self_ms: float | None
    share: float
    indexes: tuple[str, ...]
    columns: dict[str, tuple[Place, ...]]


@dataclass(frozen=True, slots=True)
class JoinTie:
    """Two relations that a condition ties together, and by which step they are joined."""

    one: str
    other: str
    condition: str
    step: int
    method: str


@dataclass(frozen=True, slots=True)
class JoinGraph:
    """The relations of a plan (by alias) and their ties.

    ``apart`` has, for each tree of joins whose relations do not all hang together, the groups
    that do: between these every row meets every row.
    """

    relations: tuple[str, ...]
    ties: tuple[JoinTie, ...]
    apart: tuple[tuple[tuple[str, ...], ...], ...]


@dataclass(frozen=True, slots=True)
class Work:
    """What a plan takes as a whole.

    ``work_ms`` is time summed over all processes, ``elapsed_ms`` as the clock shows it;
    ``processes`` the most that ran at once. Memory is the most of all steps that say so,
    in bytes; ``spilled_bytes`` went to temporary files.
    """

    elapsed_ms: float | None
    work_ms: float | None
    processes: int
    memory_bytes: int
    spilled_bytes: int
    temp_pages: int


def table_accounts(plan: Plan) -> list[TableAccount]:
    """An account of each table the plan reads, the most costly first."""
    known = accounts(plan)
    groups: dict[TableName, list[Node]] = {}
    for node in plan.nodes():
        if reads_table(node):
            groups.setdefault(TableName(node.schema, node.relation), []).append(node)
    places = _column_places(plan)
    found = [_account(plan, name, nodes, known, places) for name, nodes in groups.items()]
    return sorted(found, key=lambda each: -each.share)


def reads_table(node: Node) -> bool:
    """Whether a step reads a table: here, on another server, or a sample of it."""
    return bool(node.relation) and node.operation not in (Operation.MODIFY, Operation.BITMAP_INDEX)


def join_graph(plan: Plan) -> JoinGraph:
    """Which relations are tied by which conditions, as far as the plan prints them."""
    names = {alias_of(n): n for n in plan.nodes() if reads_table(n)}
    ties: dict[tuple[str, str, str], JoinTie] = {}
    for node in plan.nodes():
        for text in node.conditions.all():
            for predicate in predicates(text):
                refs = {ref.alias for ref in columns_of(predicate.sql)}
                met = sorted(unquoted(ref) for ref in refs if unquoted(ref) in names)
                for one, other in pairwise(met):
                    key = (one, other, predicate.sql)
                    if key not in ties:
                        step, method = _tied_by(plan, node)
                        ties[key] = JoinTie(one, other, predicate.sql, step.no, method)
    trees = [_groups(members, list(ties.values())) for members in _join_trees(plan.root)]
    apart = tuple(groups for groups in trees if len(groups) > 1)
    return JoinGraph(tuple(names), tuple(ties.values()), apart)


def whole_work(plan: Plan) -> Work:
    """What the plan takes as a whole."""
    known = accounts(plan)
    elapsed = known[plan.root.no].total_ms
    work = None
    if elapsed is not None:
        work = sum((a.self_ms or 0.0) * a.processes for a in known.values())
    memories = [node.memory for node in plan.nodes() if node.memory is not None]
    pages = [a.self_pages for a in known.values() if a.self_pages is not None]
    return Work(
        elapsed,
        work,
        round(max(a.processes for a in known.values())),
        max((memory.used_bytes or 0 for memory in memories), default=0),
        sum(memory.spilled_bytes for memory in memories),
        sum(each.temp_written for each in pages),
    )


def search_columns(nodes: list[Node]) -> set[str]:
    """The columns on which an index could lead to the rows of these scans."""
    found = set()
    for node in nodes:
        for part in node.walk():
            for text in (*part.conditions.search, *part.conditions.filter, *part.conditions.join):
                for each in predicates(text):
                    if each.searchable and each.column is not None:
                        found.add(each.column.column)
    return found


def _account(
    plan: Plan,
    name: TableName,
    nodes: list[Node],
    known: dict[int, StepMetrics],
    places: dict[str, dict[str, set[Place]]],
) -> TableAccount:
    parts = [part for node in nodes for part in _with_indexes(node)]
    costs = [known[part.no] for part in parts]
    pages = [each.self_pages for each in costs if each.self_pages is not None]
    aliases = tuple(dict.fromkeys(alias_of(node) for node in nodes))
    seen = plan.steps_measured
    return TableAccount(
        name=name,
        aliases=aliases,
        steps=tuple(node.no for node in nodes),
        scans=sum((n.loops or 0.0) / known[n.no].processes for n in nodes) if seen else None,
        rows_expected=sum((n.rows_expected or 0.0) * rows_divided_by(plan, n) for n in nodes),
        rows_read=sum(map(_read, nodes)) if seen else None,
        rows_kept=sum(map(_kept, nodes)) if seen else None,
        pages_cached=sum(each.cached for each in pages) if pages else None,
        pages_read=sum(each.read for each in pages) if pages else None,
        self_ms=sum(each.self_ms or 0.0 for each in costs) if seen else None,
        share=sum(each.self_share for each in costs),
        indexes=tuple(dict.fromkeys(part.index for part in parts if part.index)),
        columns=_served(aliases, places),
    )


def _served(
    aliases: tuple[str, ...], places: dict[str, dict[str, set[Place]]]
) -> dict[str, tuple[Place, ...]]:
    """Where each column of a table serves, under all of its aliases, in one order of places."""
    columns: dict[str, set[Place]] = {}
    for alias in aliases:
        for column, served in places.get(alias, {}).items():
            columns.setdefault(column, set()).update(served)
    return {column: tuple(p for p in Place if p in served) for column, served in columns.items()}


def _with_indexes(node: Node) -> Iterator[Node]:
    """A scan with the index steps below it."""
    yield node
    for child in node.children:
        if child.operation in (Operation.BITMAP_INDEX, Operation.BITMAP_SCAN):
            yield from _with_indexes(child)


def _read(node: Node) -> float:
    """The rows a scan looked at, over all its loops."""
    discarded = (node.discarded.by_filter or 0.0) + (node.discarded.by_recheck or 0.0)
    return ((node.rows_seen or 0.0) + discarded) * (node.loops or 0.0)


def _kept(node: Node) -> float:
    """The rows that passed, over all its loops."""
    return (node.rows_seen or 0.0) * (node.loops or 0.0)


def alias_of(node: Node) -> str:
    """The name by which a plan's conditions call the table that a step reads."""
    return node.alias or node.relation


def _column_places(plan: Plan) -> dict[str, dict[str, set[Place]]]:
    """Alias → column → where it serves."""
    found: dict[str, dict[str, set[Place]]] = {}
    aliases = {alias_of(n) for n in plan.nodes() if n.relation}
    only = aliases.pop() if len(aliases) == 1 else ""

    def note(node: Node, place: Place, texts: tuple[str, ...]) -> None:
        for text in texts:
            for ref in columns_of(text):
                # Plans of a single table print its columns without its name.
                alias = unquoted(ref.alias) or alias_of(node) or only
                found.setdefault(alias, {}).setdefault(unquoted(ref.column), set()).add(place)

    for node in plan.nodes():
        joins = node.operation in JOINS
        note(node, Place.SEARCH, node.conditions.search)
        note(node, Place.JOIN if joins else Place.FILTER, node.conditions.filter)
        note(node, Place.JOIN, node.conditions.join)
        note(node, Place.SORT, tuple(bare_key(key) for key in node.sort_keys))
        note(node, Place.GROUP, node.group_keys)
    note(plan.root, Place.OUTPUT, plan.root.output)
    return found


def bare_key(key: str) -> str:
    """A sort key without its direction."""
    for ending in (" NULLS FIRST", " NULLS LAST", " DESC", " ASC"):
        key = key.removesuffix(ending)
    return key


def _tied_by(plan: Plan, node: Node) -> tuple[Node, str]:
    """The join or sub-plan that a step belongs to: itself, or the nearest above it."""
    for each in reversed(path_to(plan.root, node)):
        if each.operation in JOINS:
            return each, each.label
        if each.role is Role.SUBPLAN:
            return each, each.subplan_name
    return node, node.label


def _join_trees(node: Node, below_join: bool = False) -> Iterator[list[str]]:
    """The aliases of each tree of joins: joins right above joins are one tree."""
    is_join = node.operation in JOINS
    if is_join and not below_join:
        yield [name for child in node.children for name in _inputs(child)]
    within = is_join or (below_join and node.operation in _PASSING)
    for child in node.children:
        yield from _join_trees(child, within and child.role in (Role.OUTER, Role.INNER))


def _inputs(node: Node) -> Iterator[str]:
    """The relations that a join reads through joins and steps that only pass rows on."""
    if node.role not in (Role.OUTER, Role.INNER):
        return
    if reads_table(node):
        yield alias_of(node)
    elif node.operation in _PASSING or node.operation in JOINS:
        for child in node.children:
            yield from _inputs(child)


def _groups(members: list[str], ties: list[JoinTie]) -> tuple[tuple[str, ...], ...]:
    """The members in groups that hang together."""
    groups = [{name} for name in dict.fromkeys(members)]
    for tie in ties:
        met = [group for group in groups if tie.one in group or tie.other in group]
        if len(met) > 1:
            groups = [group for group in groups if group not in met] + [set().union(*met)]
    return tuple(tuple(name for name in members if name in group) for group in groups)
