"""Orders of text: only one by bytes lets an index lead to texts by their beginnings."""

from __future__ import annotations

from humble_ledger.core.schema.facts import ColumnFacts, IndexKey


def sorted_by_bytes(key: IndexKey, column: ColumnFacts | None) -> bool:
    """Whether a key of an index sorts texts by their bytes; ``column`` is the one it is on."""
    if key.collation:
        return key.sorted_by_bytes
    return column is None or column.sorted_by_bytes
