"""Indexes that are right and still read the table: for one more column, for old rows, too coarsely.

`missing-covering-index`: every row is fetched for a column or two that the index could
hold. `index-only-heap-fetches`: the index has all, but the server must look whether the rows
are visible. `lossy-bitmap`: a bitmap forgot the rows and remembers only pages.
"""

from __future__ import annotations

from collections.abc import Iterable

from humble_ledger.core.messages import message, moment
from humble_ledger.core.plans.model import Node, Operation
from humble_ledger.core.plans.tables import TableAccount, table_accounts
from humble_ledger.core.schema.facts import IndexFacts, TableFacts, TableName
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case
from humble_ledger.core.symptoms.in_plans.index_use import rows_of_bitmap
from humble_ledger.core.symptoms.model import Cause, Symptom

FEWEST_ROWS = 1_000.0
FEWEST_PAGES = 200.0
MOST_ADDED_COLUMNS = 3
MOST_ADDED_BYTES = 64
SAVED_PART = 0.5  # of the pages, at least
VISIBLE_PART = 0.8  # of the table's pages, or the server looks there all the same
MOST_COLUMNS = 6
VISITED_PART = 0.1
WHOLE_PART = 0.5  # of the rows, which are walked in the order of an index
# One page of a bitmap: PagetableEntry (48 bytes) and two pointers, tbm_calculate_entries in
# PostgreSQL's tidbitmap.c.
BITMAP_ENTRY_BYTES = 64


def spared_lookups(case: Case) -> Iterable[Symptom]:
    """`missing-covering-index`."""
    per_table = {account.name: account for account in table_accounts(case.plan)}
    for node in case.plan.nodes():
        if node.operation not in (Operation.INDEX_SCAN, Operation.BITMAP_SCAN) or node.never_ran:
            continue
        table = case.table_of(node)
        index = _only_index(node, table)
        account = per_table.get(TableName(node.schema, node.relation))
        if table is None or index is None or account is None or not case.priced:
            continue
        walked = case.walked_share(node)
        if not _searches(node) and case.rows(node) * walked < WHOLE_PART * table.rows:
            continue  # it stops early, or is told from another step
        added = _added_columns(table, index, account)
        rows = _fetched(case, node) * walked
        if not added or rows < FEWEST_ROWS or 1.0 - table.visited_share < VISIBLE_PART:
            continue
        if table.pages < FEWEST_PAGES:
            continue
        now = _pages_now(case, node, table, index, rows)
        then = _pages_then(case, table, index, added, rows, max(node.loops or 1.0, 1.0))
        saved = 1.0 - then / now if now else 0.0
        cost_ms, share = case.avoidable(node, saved)
        if now < FEWEST_PAGES or saved < SAVED_PART or share < WORTH_A_WORD:
            continue
        yield Symptom(
            name="missing-covering-index",
            node=node.no,
            step=node.name,
            summary=message(
                "missing-covering-index",
                measured=case.plan.steps_measured,
                rows=rows,
                pages=now,
                table=table.name,
                columns=added,
            ),
            evidence={
                "rows_fetched": rows,
                "pages_now": now,
                "pages_predicted": then,
                "columns": ", ".join(added),
                "index": index.name,
            },
            cause=Cause(
                "column-not-in-index",
                message("column-not-in-index", index=index.name, columns=added, pages=then),
            ),
            cost_ms=cost_ms,
            cost_share=share,
        )


def visited_tables(case: Case) -> Iterable[Symptom]:
    """`index-only-heap-fetches`: only a measured plan can show it."""
    for node in case.plan.nodes():
        if node.operation is not Operation.INDEX_ONLY_SCAN or not node.loops:
            continue
        visits = node.visits.table_rows
        rows = case.rows(node)
        if visits < FEWEST_ROWS or visits < VISITED_PART * rows:
            continue
        part = visits / max(rows, visits)
        cost_ms, share = case.avoidable(node, part)
        if share < WORTH_A_WORD:
            continue
        table = case.table_of(node)
        heap = table.heap if table is not None else None
        yield Symptom(
            name="index-only-heap-fetches",
            node=node.no,
            step=node.name,
            summary=message(
                "index-only-heap-fetches",
                index=node.index,
                visits=visits,
                rows=max(rows, visits),
                table=node.relation,
            ),
            evidence={"rows_looked_up": visits, "rows": rows},
            cause=Cause(
                "pages-not-all-visible",
                message(
                    "pages-not-all-visible",
                    marked=heap.all_visible_share if heap else None,
                    table=node.relation,
                    known=heap is not None,
                    vacuumed=moment(heap.vacuumed_at) if heap else None,
                    freed=case.dialect.freed,
                ),
            ),
            cost_ms=cost_ms,
            cost_share=share,
        )


def coarse_bitmaps(case: Case) -> Iterable[Symptom]:
    """`lossy-bitmap`: only a measured plan can show it."""
    for node in case.plan.nodes():
        if node.operation is not Operation.BITMAP_SCAN or not node.loops:
            continue
        coarse = node.visits.lossy_pages
        exact = node.visits.exact_pages
        tested = (node.discarded.by_recheck or 0.0) * node.loops
        kept = case.rows(node)
        needed = (coarse + exact) * BITMAP_ENTRY_BYTES
        # An index that knows only ranges of pages makes coarse bitmaps of any size.
        if not coarse or tested < FEWEST_ROWS or needed <= case.memory_bytes:
            continue
        cost_ms, share = case.avoidable(node, tested / (tested + kept))
        if share < WORTH_A_WORD:
            continue
        limit = case.memory_bytes
        yield Symptom(
            name="lossy-bitmap",
            node=node.no,
            step=node.name,
            summary=message("lossy-bitmap", coarse=coarse, pages=coarse + exact, tested=tested),
            evidence={
                "pages_coarse": coarse,
                "pages_exact": exact,
                "rows_tested_for_nothing": tested,
                "memory_limit_bytes": limit,
                "memory_needed_bytes_computed": needed,
            },
            cause=Cause(
                "memory-too-small",
                message(
                    "memory-of-bitmap",
                    limit_bytes=limit,
                    setting=case.memory_setting,
                    needed_bytes=needed,
                ),
            ),
            cost_ms=cost_ms,
            cost_share=share,
        )


def _only_index(node: Node, table: TableFacts | None) -> IndexFacts | None:
    """The one b-tree through which a scan goes; None when there are several."""
    names = {each.index for each in node.walk() if each.index}
    if table is None or len(names) != 1:
        return None
    index = table.index(names.pop())
    return (
        index
        if index is not None and index.method == IndexMethod.SORTED and not index.predicate
        else None
    )


def _searches(node: Node) -> bool:
    return any(each.conditions.search for each in node.walk())


def _added_columns(table: TableFacts, index: IndexFacts, account: TableAccount) -> list[str]:
    """What the index lacks of the columns the plan uses; [] when that is nothing or too much."""
    held = {*index.key_columns, *index.included}
    used = [name for name, places in account.columns.items() if places]
    added = sorted(name for name in used if name not in held)
    if len(account.aliases) != 1 or any(name not in table.columns for name in used):
        return []
    width = sum(_width(table, name) for name in added)
    too_much = len(added) > MOST_ADDED_COLUMNS or width > MOST_ADDED_BYTES
    return [] if too_much or len(held) + len(added) > MOST_COLUMNS else added


def _width(table: TableFacts, name: str) -> int:
    column = table.columns[name]
    known = column.length_bytes if column.length_bytes > 0 else column.mean_width_bytes
    return known if known is not None else MOST_ADDED_BYTES + 1


def _fetched(case: Case, node: Node) -> float:
    if node.loops is None and node.operation is Operation.BITMAP_SCAN:
        return rows_of_bitmap(case, node)
    return case.rows(node) + (node.discarded.by_filter or 0.0) * (node.loops or 0.0)


def _pages_now(case: Case, node: Node, table: TableFacts, index: IndexFacts, rows: float) -> float:
    """The pages that a scan and its bitmap touch: counted, else expected."""
    if not case.plan.steps_measured:
        pages = float(table.pages)
        # Mackert and Lohman, for a table that fits into the cache.
        apart = min(pages, 2 * pages * rows / (2 * pages + rows))
        together = min(apart, pages * rows / max(table.rows, 1.0))
        leading = table.columns.get(index.key_columns[0]) if index.key_columns else None
        # As planners do: between rows that lie in the index's order and rows that lie anywhere.
        in_order = case.costs.correlation(leading, len(index.key_columns)) ** 2
        return in_order * together + (1.0 - in_order) * apart
    own = [case.accounts[each.no].self_pages for each in node.walk()]
    return float(sum(pages.touched for pages in own if pages is not None))


def _pages_then(
    case: Case, table: TableFacts, index: IndexFacts, added: list[str], rows: float, searches: float
) -> float:
    """The pages of a covering index that so many rows take in so many searches.

    With them the pages of the table that are not marked visible.
    """
    keys = [table.columns[name] for name in index.key_columns if name in table.columns]
    shape = case.costs.sizes.in_order(table, keys, [table.columns[name] for name in added])
    leaves = max(shape.pages * rows / shape.entries, searches)
    return leaves + searches * shape.levels + table.visited_share * rows
