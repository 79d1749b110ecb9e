"""Indexes that are used and still read too much: from their wrong end, or for rows thrown away."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from humble_ledger.core.messages import message
from humble_ledger.core.plans.arithmetic import runs_expected
from humble_ledger.core.plans.model import Node, Operation
from humble_ledger.core.schema.facts import IndexFacts, TableFacts
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.statements.conditions import Predicate, PredicateKind, predicates
from humble_ledger.core.symptoms.case import Case
from humble_ledger.core.symptoms.in_plans.obstacles import narrowest, obstacle
from humble_ledger.core.symptoms.model import Cause, Symptom

WORTH_A_WORD = 0.10
FEWEST_PAGES = 32
FEWEST_DISCARDED = 1_000.0
MOSTLY = 0.9
_READS_INDEX = (Operation.INDEX_SCAN, Operation.INDEX_ONLY_SCAN, Operation.BITMAP_INDEX)
_FETCHES = (Operation.INDEX_SCAN, Operation.BITMAP_SCAN)


def wrong_ends(case: Case) -> Iterable[Symptom]:
    """`leading-column-missing`: the first key of the index is not searched for."""
    for node, table in _index_steps(case):
        index = table.index(node.index)
        if (
            index is None
            or index.method != IndexMethod.SORTED
            or len(index.keys) < 2
            or node.never_ran
        ):
            continue
        searched = _searched(node)
        if not searched or index.key_columns[0] in searched or not index.key_columns[0]:
            continue
        pages = _pages(case, node, index)
        rows = (node.rows_seen or 0.0) * (node.loops or 0.0) if node.loops else node.rows_expected
        # Entries that are found lie together; the rows of a table may each lie elsewhere.
        only = node.operation is not Operation.INDEX_SCAN and table.rows > 0
        wanted_pages = (rows or 0.0) * (pages / table.rows if only else 1.0)
        needed = min(1.0, (wanted_pages + 3) / pages) if pages else 1.0
        cost_ms, share = case.avoidable(node, 1.0 - needed)
        if pages < FEWEST_PAGES or share < WORTH_A_WORD:
            continue
        wanted = [column for column in index.key_columns if column in searched]
        yield Symptom(
            name="leading-column-missing",
            node=node.no,
            step=node.name,
            summary=message(
                "leading-column-missing", pages=pages, index=index.name, rows=rows or 0
            ),
            evidence={"pages": pages, "rows": rows, "keys": ", ".join(index.key_columns)},
            cause=Cause(
                "not-the-leading-column",
                message(
                    "only-later-columns-searched",
                    index=index.name,
                    first=index.key_columns[0],
                    searched=wanted,
                ),
            ),
            cost_ms=cost_ms,
            cost_share=share,
        )


def discarding_scans(case: Case) -> Iterable[Symptom]:
    """`index-scan-discards-most`: rows are fetched by an index, then thrown away."""
    for node in case.plan.nodes():
        if node.operation not in _FETCHES or node.never_ran or not node.conditions.filter:
            continue
        tested = [p for text in node.conditions.filter for p in predicates(text)]
        if all(p.of_sub_query for p in tested):
            continue  # what a sub-query gives stands in no index
        walked = case.walked_share(node)
        runs = 1.0 if node.loops else runs_expected(case.plan, node)
        kept = case.rows(node) * runs * walked
        discarded = (
            (node.discarded.by_filter or 0.0) * node.loops
            if node.loops
            else _fetched(case, node) * runs * walked - kept
        )
        if discarded < FEWEST_DISCARDED or discarded < MOSTLY * (discarded + kept):
            continue
        cost_ms, share = case.avoidable(node, discarded / (discarded + kept))
        if share < WORTH_A_WORD:
            continue
        names = list(dict.fromkeys(n.index for n in node.walk() if n.index))
        held = {key for i in _indexes(case, node) for key in i.key_columns}
        late = [c for c in dict.fromkeys(_columns(node.conditions.filter)) if c not in held]
        detail = (
            message("columns-tested-late", columns=late, indexes=names)
            if late
            else message("tested-late", condition=node.conditions.filter[0])
        )
        yield Symptom(
            name="index-scan-discards-most",
            node=node.no,
            step=node.name,
            summary=message(
                "index-scan-discards-most",
                measured=case.plan.steps_measured,
                rows=discarded + kept,
                indexes=names,
                kept=kept,
            ),
            evidence={"rows_fetched": discarded + kept, "rows_kept": kept},
            cause=Cause("condition-not-in-index", detail),
            cost_ms=cost_ms,
            cost_share=share,
        )


def walked_indexes(case: Case) -> Iterable[Symptom]:
    """`full-index-scan`: an index is read from end to end for a test it cannot search by."""
    for node, table in _index_steps(case):
        only = node.operation is Operation.INDEX_ONLY_SCAN and not node.conditions.search
        if not only or not node.conditions.filter or node.never_ran:
            continue
        kept = case.rows(node)
        discarded = (
            (node.discarded.by_filter or 0.0) * node.loops
            if node.loops
            else max(0.0, table.rows - kept)
        )
        if discarded < FEWEST_DISCARDED or discarded < MOSTLY * (discarded + kept):
            continue
        cost_ms, share = case.avoidable(node, discarded / (discarded + kept))
        found = [p for text in node.conditions.filter for p in predicates(text)]
        best = narrowest(case, node, table, found)
        if share < WORTH_A_WORD or best is None:
            continue
        yield Symptom(
            name="full-index-scan",
            node=node.no,
            step=node.name,
            summary=message(
                "full-index-scan",
                measured=case.plan.steps_measured,
                entries=discarded + kept,
                index=node.index,
                kept=kept,
            ),
            evidence={"entries_read": discarded + kept, "rows_kept": kept, "index": node.index},
            cause=obstacle(case, table, best),
            cost_ms=cost_ms,
            cost_share=share,
        )


def _index_steps(case: Case) -> Iterator[tuple[Node, TableFacts]]:
    """Each step that reads an index, with the table it belongs to."""
    tables = {index.name: table for table in case.tables.values() for index in table.indexes}
    for node in case.plan.nodes():
        if node.operation in _READS_INDEX and node.index in tables:
            yield node, tables[node.index]


def _indexes(case: Case, node: Node) -> Iterator[IndexFacts]:
    """The indexes that a step and those below it read."""
    table = case.table_of(node)
    names = {below.index for below in node.walk() if below.index}
    return (index for index in (table.indexes if table else ()) if index.name in names)


def rows_of_bitmap(case: Case, node: Node) -> float:
    """The rows that a scan is led to by its bitmap, before its filter."""
    maps = (child for child in node.children if child.operation is Operation.BITMAP_INDEX)
    return max((case.rows(each) for each in maps), default=0.0)


def _fetched(case: Case, node: Node) -> float:
    """The rows that the planner expects to come from an index, before all else is tested."""
    if node.operation is Operation.BITMAP_SCAN:
        return rows_of_bitmap(case, node)
    table = case.table_of(node)
    if table is not None and not node.conditions.search:
        index = table.index(node.index)
        if index is None or not index.predicate:
            return table.rows if index is not None else 0.0
        return case.planner.rows_matching(table.name, node.alias, [index.predicate]) or 0.0
    found = [p for text in node.conditions.search for p in predicates(text)]
    if table is None or not found:
        return 0.0
    if any(p.partner for p in found):
        return _of_a_joins_value(table, found)
    rows = case.planner.rows_matching(table.name, node.alias, [p.sql for p in found])
    return rows or 0.0


def _of_a_joins_value(table: TableFacts, found: Sequence[Predicate]) -> float:
    """The rows that a value of the other side leads to, where that alone is searched for."""
    (only, *others) = found
    column = table.columns.get(only.column.column) if only.column else None
    distinct = column.distinct_values(table.rows) if column is not None else None
    alone = not others and only.kind is PredicateKind.EQUALITY
    return table.rows / distinct if alone and distinct else 0.0


def _searched(node: Node) -> set[str]:
    return set(_columns(node.conditions.search))


def _columns(texts: Iterable[str]) -> Iterator[str]:
    for text in texts:
        for each in predicates(text):
            if each.column is not None:
                yield each.column.column


def _pages(case: Case, node: Node, index: IndexFacts) -> float:
    """The pages a step touched, else all of its index."""
    own = case.accounts[node.no].self_pages
    return float(own.touched) if own is not None and node.loops else float(index.pages)
