"""Indexes for a plan of which nothing but itself is known: no catalogue, no formulas, no server.

Tables are put together from what the plan says of them: the columns that its conditions, orders
and outputs name. What an index would save, and whether one like it is there, nobody can tell.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from humble_ledger.core.messages import Told
from humble_ledger.core.plans.model import Node, Operation, Plan
from humble_ledger.core.plans.tables import alias_of
from humble_ledger.core.remedies.candidates.model import Candidate, IndexAbilities
from humble_ledger.core.remedies.candidates.registry import candidates
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.facts import ColumnFacts, TableFacts, TableName
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.statements.conditions import columns_of
from humble_ledger.core.symptoms.model import Symptom

# Large enough that no candidate is left out for a table that is too small; nothing is priced.
_ROWS, _PAGES, _PAGE_BYTES = 1_000_000.0, 10_000, 8_192
_WIDTH = 8
_HELPED = frozenset(
    (
        "selective-full-scan",
        "index-scan-discards-most",
        "subquery-per-row",
        "join-side-without-index",
        "sort-without-index",
        "top-n-without-index",
    )
)
_READS = (Operation.FULL_SCAN, Operation.INDEX_ONLY_SCAN, Operation.INDEX_SCAN)


@dataclass(frozen=True, slots=True)
class Idea:
    """An index that might serve a step of a plan; nothing is predicted of it.

    ``design`` is a new one; where it is None, ``index`` is one that the plan uses, which with
    the columns ``added`` would hold all that is asked for. ``symptom`` is what it is against.
    """

    step: int
    table: TableName
    reason: Told
    symptom: str
    design: IndexDesign | None = None
    index: str = ""
    added: tuple[str, ...] = ()


def ideas(
    plan: Plan,
    symptoms: Iterable[Symptom],
    abilities: IndexAbilities,
    known: Mapping[TableName, TableFacts],
) -> Sequence[Idea]:
    """Indexes against what was found in a plan, each once, in the order of the symptoms.

    ``known`` are the tables of which there are facts, among them the indexes that are there.
    """
    found: list[Idea] = []
    # Nothing is priced, so that no table is too small.
    large = {n: replace(facts, pages=max(facts.pages, _PAGES)) for n, facts in known.items()}
    made = candidates(plan, {**_tables(plan), **large}, abilities)
    for symptom in symptoms:
        if symptom.harmless:
            continue
        if symptom.name == "missing-covering-index":
            found += _widened(plan, symptom)
        elif symptom.name in _HELPED:
            found += _new(plan, symptom, made)
    return list({_key(each): each for each in reversed(found)}.values())[::-1]


def _key(idea: Idea) -> object:
    return (idea.design, idea.index, idea.added, idea.table)


def _widened(plan: Plan, symptom: Symptom) -> Iterator[Idea]:
    node = plan.node(symptom.node)
    index, columns = str(symptom.evidence.get("index") or ""), symptom.evidence.get("columns")
    added = tuple(name for name in str(columns or "").split(", ") if name)
    if index and added:
        yield Idea(
            node.no,
            TableName(node.schema, node.relation),
            f"{index} would hold all that is asked of these rows",
            symptom.name,
            index=index,
            added=added,
        )


def _new(plan: Plan, symptom: Symptom, made: Sequence[Candidate]) -> Iterator[Idea]:
    """The index with most keys that are searched for, for each reading that is blamed."""
    for node in plan.node(symptom.node).walk():
        if node.operation not in _READS or not node.relation:
            continue
        mine = [c for c in made if c.access.node.no == node.no and _plain(c)]
        if not mine:
            continue
        best = max(mine, key=_searched)
        if _searched(best):
            yield Idea(
                node.no, best.design.table, best.reason, symptom.name, _with_outputs(best, mine)
            )
        if symptom.name != "subquery-per-row":
            return


def _plain(candidate: Candidate) -> bool:
    design = candidate.design
    return (
        design.method == IndexMethod.SORTED
        and not design.predicate
        and not design.included
        and all(key.column for key in design.keys)
    )


def _searched(candidate: Candidate) -> int:
    """How many of its keys lead to rows: columns compared for equality, then one range."""
    access = candidate.access
    equal = {p.column.column for p in access.equalities if p.column}
    equal |= {p.column.column for p in access.joins if p.column}
    ranges = {p.column.column for p in access.ranges if p.column}
    led = 0
    for key in candidate.design.keys:
        if key.column in equal:
            led += 1
        elif key.column in ranges:
            return led + 1
        else:
            break
    return led


def _with_outputs(best: Candidate, mine: Sequence[Candidate]) -> IndexDesign:
    """The keys alone: what else an index should hold depends on how many rows it leads to."""
    same = [c.design for c in mine if c.design.key_columns == best.design.key_columns]
    return same[0] if same else best.design


def _tables(plan: Plan) -> Mapping[TableName, TableFacts]:
    columns: dict[TableName, dict[str, ColumnFacts]] = {}
    by_alias: dict[str, list[TableName]] = {}
    for node in plan.nodes():
        if node.relation and node.operation is not Operation.MODIFY:
            name = TableName(node.schema, node.relation)
            columns.setdefault(name, {})
            by_alias.setdefault(alias_of(node), []).append(name)
    for node in plan.nodes():
        own = TableName(node.schema, node.relation) if node.relation else None
        for ref in (ref for text in _texts(node) for ref in columns_of(text)):
            names = by_alias.get(ref.alias, []) if ref.alias else [own] if own else []
            for name in names:
                if name in columns:
                    known = columns[name]
                    known.setdefault(ref.column, _column(ref.column, len(known)))
    return {
        name: TableFacts(name, "table", _ROWS, _PAGES, _PAGES * _PAGE_BYTES, _PAGE_BYTES, known)
        for name, known in columns.items()
    }


def _texts(node: Node) -> Iterator[str]:
    yield from node.conditions.all()
    yield from node.output
    yield from node.sort_keys
    yield from node.group_keys


def _column(name: str, place: int) -> ColumnFacts:
    """A column of which only the name is known."""
    return ColumnFacts(name, "", place, False, -1, 4, mean_width_bytes=_WIDTH)
