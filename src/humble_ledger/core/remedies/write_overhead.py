"""What an index costs those who change rows, by the table's own counters.

PostgreSQL writes one entry into every index for each inserted row, and for each updated row
that does not stay in its page. An update stays in its page only while it changes no column of
any index; an index on a column that updates set ends that, for all indexes of the table.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.model import WriteOverhead
from humble_ledger.core.schema.facts import IndexFacts, TableFacts, TableName
from humble_ledger.core.statements.conditions import columns_of


@dataclass(frozen=True, slots=True)
class SeenUpdate:
    """A captured UPDATE: its query, its table as written, the columns it sets, its calls."""

    query: str
    table: str
    columns: frozenset[str]
    calls: int


def entries_now(table: TableFacts) -> float:
    """Rows and index entries written since the counters began."""
    writes = table.writes
    rows = writes.inserted + writes.updated
    return rows + len(table.indexes) * (writes.inserted + _moved(table))


def write_overhead_of(
    table: TableFacts, design: IndexDesign, share: float, updates: Sequence[SeenUpdate] = ()
) -> WriteOverhead:
    """What an index over this share of the rows would cost the writers of its table."""
    writes = table.writes
    mine = [u for u in updates if _same(u.table, table.name)]
    setting = [u for u in mine if u.columns & _columns(design)]
    all_calls = sum(u.calls for u in mine)
    part = sum(u.calls for u in setting) / all_calls if all_calls else 0.0
    moved_anew = part * writes.updated_in_page
    added = share * (writes.inserted + _moved(table)) + (len(table.indexes) + 1) * moved_anew
    return WriteOverhead(
        inserted_rows=writes.inserted,
        updated_rows=writes.updated,
        in_page_share=_in_page(table),
        entries_now=entries_now(table),
        entries_added=added,
        ends_in_page=tuple(u.query for u in setting) if writes.updated_in_page else (),
        updates_seen=bool(mine),
        counted=table.counted,
    )


def write_overhead_of_removal(table: TableFacts, index: IndexFacts) -> WriteOverhead:
    """What the writers of a table no longer pay without an index."""
    writes = table.writes
    return WriteOverhead(
        inserted_rows=writes.inserted,
        updated_rows=writes.updated,
        in_page_share=_in_page(table),
        entries_now=entries_now(table),
        entries_added=-float(writes.inserted + _moved(table)) if index.valid else 0.0,
        counted=table.counted,
    )


def _moved(table: TableFacts) -> int:
    return max(0, table.writes.updated - table.writes.updated_in_page)


def _in_page(table: TableFacts) -> float | None:
    writes = table.writes
    return writes.updated_in_page / writes.updated if writes.updated else None


def _columns(design: IndexDesign) -> set[str]:
    named = {*design.key_columns, *design.included} - {""}
    for text in (*(key.expression for key in design.keys), design.predicate):
        named |= {ref.column for ref in columns_of(text)} if text else set()
    return named


def _same(written: str, table: TableName) -> bool:
    return written in (table.name, f"{table.schema}.{table.name}")
