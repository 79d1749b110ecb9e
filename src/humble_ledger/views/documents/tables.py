"""A table with its indexes, and a column with its values."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.estimates.distribution import spread_of
from humble_ledger.core.results.reports import ColumnReport, TableReport
from humble_ledger.core.schema.facts import ColumnFacts, IndexFacts, TableFacts
from humble_ledger.views.documents.parts import iso, rounded


class TableIndexRow(Struct, frozen=True):
    """One index; ``merged_into`` is another that serves all it serves."""

    name: str
    method: str
    keys: list[str]
    included: list[str]
    predicate: str
    unique: bool
    primary: bool
    valid: bool
    size_bytes: int
    scans: int | None
    last_scan: str | None
    merged_into: str | None
    definition: str


class TableColumnRow(Struct, frozen=True):
    """One column and the figures of its statistics (estimated; null: none were gathered)."""

    name: str
    type: str
    not_null: bool
    null_share: float | None
    distinct: float | None
    commonest_share: float | None
    common_count: int
    common_share: float
    statistics_target: int | None
    mean_width_bytes: int | None
    correlation: float | None


class ForeignKeyRow(Struct, frozen=True):
    """Columns that refer to another table's."""

    name: str
    columns: list[str]
    refers_to: str
    refers_to_columns: list[str]
    on_delete: str


class TableDocument(Struct, frozen=True):
    """A table as the server knows it now; counters since ``counted_since`` (None: not counted)."""

    table: str
    table_kind: str
    rows_estimated: float
    pages: int
    pages_needed_computed: float | None
    size_bytes: int
    index_bytes: int
    overflow_bytes: int
    full_scans: int | None
    index_scans: int | None
    inserted_rows: int | None
    updated_rows: int | None
    updated_in_page_rows: int | None
    deleted_rows: int | None
    dead_rows: int | None
    all_visible_share: float | None
    vacuumed_at: str | None
    analyzed_at: str | None
    changes_since_analyze: int | None
    counted_since: str | None
    indexes: list[TableIndexRow]
    foreign_keys: list[ForeignKeyRow]
    columns: list[TableColumnRow]
    symptoms: list[str]
    kind: Literal["table"] = "table"
    version: Literal[2] = 2


class CommonValueRow(Struct, frozen=True):
    """One of the most common values."""

    value: str
    share_estimated: float
    counted_rows: int | None


class BinRow(Struct, frozen=True):
    """An interval of the other values with its share of all rows."""

    low: str
    high: str
    share_estimated: float


class AskedValueRow(Struct, frozen=True):
    """A condition, where its value falls, and the rows that meet it."""

    condition: str
    value: str
    place: str
    share: float | None
    rows_estimated: float | None
    counted_rows: int | None


class ColumnDocument(Struct, frozen=True):
    """A column's statistics; ``counted_…`` only where the table was read to count."""

    table: str
    column: TableColumnRow
    rows_estimated: float
    analyzed_at: str | None
    changes_since_analyze: int | None
    common: list[CommonValueRow]
    histogram: list[BinRow]
    even_width: bool
    asked: list[AskedValueRow]
    counted_rows: int | None
    counted_nulls: int | None
    counted_distinct: int | None
    kind: Literal["column"] = "column"
    version: Literal[1] = 1


def table_document(found: TableReport) -> TableDocument:
    """A table."""
    table = found.table
    heap = table.heap
    return TableDocument(
        table=str(table.name),
        table_kind=table.kind,
        rows_estimated=table.rows,
        pages=table.pages,
        pages_needed_computed=rounded(found.pages_needed),
        size_bytes=table.size_bytes,
        index_bytes=table.index_bytes,
        overflow_bytes=table.overflow_bytes,
        full_scans=table.reads.full_scans if table.counted else None,
        index_scans=table.reads.index_scans if table.counted else None,
        inserted_rows=table.writes.inserted if table.counted else None,
        updated_rows=table.writes.updated if table.counted else None,
        updated_in_page_rows=table.writes.updated_in_page if table.counted else None,
        deleted_rows=table.writes.deleted if table.counted else None,
        dead_rows=heap.dead_rows if heap else None,
        all_visible_share=heap.all_visible_share if heap else None,
        vacuumed_at=iso(heap.vacuumed_at) if heap else None,
        analyzed_at=iso(table.analyzed_at),
        changes_since_analyze=table.changes_since_analyze,
        counted_since=iso(table.counted_since),
        indexes=[_index(each, found.merged.get(each.name)) for each in table.indexes],
        foreign_keys=[
            ForeignKeyRow(
                key.name,
                list(key.columns),
                str(key.refers_to),
                list(key.refers_to_columns),
                key.on_delete,
            )
            for key in table.foreign_keys
        ],
        columns=[_column(table, each) for each in table.columns.values()],
        symptoms=[entry.id for entry in found.symptoms],
    )


def _index(index: IndexFacts, merged: str | None) -> TableIndexRow:
    return TableIndexRow(
        name=index.name,
        method=index.method,
        keys=[key.column or key.expression for key in index.keys],
        included=list(index.included),
        predicate=index.predicate,
        unique=index.unique,
        primary=index.primary,
        valid=index.valid,
        size_bytes=index.size_bytes,
        scans=index.scans,
        last_scan=iso(index.last_scan),
        merged_into=merged,
        definition=index.definition,
    )


def _column(table: TableFacts, column: ColumnFacts) -> TableColumnRow:
    return TableColumnRow(
        name=column.name,
        type=column.type_name,
        not_null=column.not_null,
        null_share=column.null_share,
        distinct=column.distinct_values(table.rows),
        commonest_share=column.top_share,
        common_count=column.common_count,
        common_share=column.common_share,
        statistics_target=column.target,
        mean_width_bytes=column.mean_width_bytes,
        correlation=column.correlation,
    )


def column_document(found: ColumnReport) -> ColumnDocument:
    """A column."""
    counts = found.counts
    counted = dict(counts.common) if counts is not None else {}
    spread = spread_of(found.column, found.values)
    return ColumnDocument(
        table=str(found.table.name),
        column=_column(found.table, found.column),
        rows_estimated=found.table.rows,
        analyzed_at=iso(found.table.analyzed_at),
        changes_since_analyze=found.table.changes_since_analyze,
        common=[CommonValueRow(v, share, counted.get(v)) for v, share in found.values.common],
        histogram=[BinRow(each.low, each.high, each.share) for each in spread.bins],
        even_width=spread.even_width,
        asked=[
            AskedValueRow(
                each.condition,
                each.value,
                each.place.kind.value,
                each.place.share,
                each.rows_estimated,
                each.rows_counted,
            )
            for each in found.asked
        ],
        counted_rows=counts.rows if counts else None,
        counted_nulls=counts.nulls if counts else None,
        counted_distinct=counts.distinct if counts else None,
    )
