"""`table-bloat`: a full scan reads pages that hold hardly any row."""

from __future__ import annotations

from collections.abc import Iterable

from humble_ledger.core.messages import message, moment
from humble_ledger.core.plans.model import Operation
from humble_ledger.core.schema.facts import HeapFacts, TableFacts
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case
from humble_ledger.core.symptoms.model import Cause, Symptom

FEWEST_PAGES = 256
MOSTLY = 3.0  # times the pages that its rows need
# Of a row: its header (23 bytes, aligned to 24) and its entry in the page (4).
ROW_BYTES = 28
PAGE_HEADER_BYTES = 24


def empty_tables(case: Case) -> Iterable[Symptom]:
    """`table-bloat`."""
    for node in case.plan.nodes():
        table = case.table_of(node)
        if node.operation is not Operation.FULL_SCAN or table is None or node.never_ran:
            continue
        needed = pages_needed(table)
        if needed is None or table.pages < FEWEST_PAGES or table.pages < MOSTLY * needed:
            continue
        cost_ms, share = case.avoidable(node, 1.0 - needed / table.pages)
        if share < WORTH_A_WORD:
            continue
        heap = table.heap or HeapFacts()
        yield Symptom(
            name="table-bloat",
            node=node.no,
            step=node.name,
            summary=message(
                "table-bloat",
                measured=case.plan.steps_measured,
                pages=table.pages,
                table=table.name,
                rows=table.rows,
                needed=needed,
            ),
            evidence={
                "pages": table.pages,
                "pages_needed_computed": needed,
                "dead_rows": heap.dead_rows,
                "rows_estimated": table.rows,
            },
            cause=Cause(
                "dead-rows",
                message(
                    "dead-rows",
                    dead=heap.dead_rows,
                    vacuumed=moment(heap.vacuumed_at),
                    compacted=case.dialect.compacted,
                ),
            ),
            cost_ms=cost_ms,
            cost_share=share,
        )


def pages_needed(table: TableFacts) -> float | None:
    """The pages its rows would fill, by the mean widths of its columns; None when unknown."""
    if table.heap is None:
        return None
    widths = [
        (column.length_bytes if column.length_bytes > 0 else column.mean_width_bytes)
        if column.null_share is None
        else (column.mean_width_bytes or 0) * (1.0 - column.null_share)
        for column in table.columns.values()
    ]
    known = [width for width in widths if width is not None]
    if len(known) != len(widths) or not widths:
        return None
    # Values are aligned; half of eight bytes is lost for a row on average.
    row = sum(known) + ROW_BYTES + 4
    fill = (table.heap or HeapFacts()).fill_percent / 100
    per_page = max(1.0, (table.page_bytes - PAGE_HEADER_BYTES) * fill // row)
    return max(1.0, table.rows / per_page)
