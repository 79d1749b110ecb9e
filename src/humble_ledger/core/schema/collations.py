"""Orders of text, and which of them let an index lead to texts by their beginnings."""

from __future__ import annotations

from humble_ledger.core.schema.facts import ColumnFacts, IndexKey


def finds_beginnings(key: IndexKey, column: ColumnFacts | None, *, regular: bool) -> bool:
    """Whether a key of an index leads to texts by the beginning that a pattern asks for.

    ``column`` is the one it is on, ``regular`` tells of a regular expression. One by bytes does; in
    some servers one in any order does so for LIKE, and none for regular expressions.
    """
    if column is not None and column.like_in_any_order:
        return not regular
    if key.collation:
        return key.sorted_by_bytes
    return column is None or column.sorted_by_bytes
