"""`random-primary-key`: rows are kept in the order of a key that is drawn by chance."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from humble_ledger.core.messages import message
from humble_ledger.core.schema.facts import ClusteredFacts, TableFacts, TableName
from humble_ledger.core.symptoms.model import Cause, Symptom

FEWEST_ROWS = 10_000
_LENGTHS = range(16, 37)  # bytes of a UUID: as it is, as hexadecimal digits, with hyphens


def clustering_column(table: TableFacts) -> str:
    """The one column by which a table's rows are kept in order, if it may hold UUIDs; else ""."""
    storage = table.storage
    if not isinstance(storage, ClusteredFacts) or len(storage.by) != 1 or table.rows < FEWEST_ROWS:
        return ""
    column = table.columns.get(storage.by[0])
    width = _width(table, storage.by[0])
    return column.name if column is not None and round(width) in _LENGTHS else ""


def clustering_symptoms(table: TableFacts, by_chance: Collection[TableName]) -> Iterable[Symptom]:
    """`random-primary-key`; ``by_chance`` are the tables whose keys were seen to be drawn so."""
    column = clustering_column(table)
    if not column or table.name not in by_chance:
        return
    width = _width(table, column)
    others = sum(1 for index in table.indexes if not index.primary)
    held = round(width * table.rows * others)
    yield Symptom(
        name="random-primary-key",
        node=0,
        step="",
        summary=message("rows-land-anywhere", table=table.name, column=column, pages=table.pages),
        evidence={
            "column": column,
            "key_bytes": width,
            "table_pages": table.pages,
            "rows_estimated": table.rows,
            "other_indexes": others,
            "key_bytes_in_other_indexes_computed": held,
        },
        cause=Cause(
            "key-drawn-by-chance",
            message("key-does-not-grow", bytes=width, indexes=others, held_bytes=held),
        ),
        subject=f"{table.name}.{column}",
    )


def _width(table: TableFacts, name: str) -> float:
    column = table.columns.get(name)
    if column is None:
        return 0.0
    if column.mean_width_bytes:
        return float(column.mean_width_bytes)
    return float(max(0, column.length_bytes))
