"""Operator classes, by which an index sorts values or takes them apart another way than usual.

One kind of server has them so far; these are the names it has for them, and so has whoever writes
a design. Whether a server has one, its catalogue tells (`IndexAbilities.operator_classes`).
"""

from __future__ import annotations

from humble_ledger.core.schema.facts import IndexKey

# Texts by their bytes, whatever their collation, by the type of the column.
BY_BYTES = {
    "text": "text_pattern_ops",
    "character varying": "varchar_pattern_ops",
    "character": "bpchar_pattern_ops",
}
PARTS_OF_TEXTS = "gin_trgm_ops"
PATHS_OF_DOCUMENTS = "jsonb_path_ops"  # smaller than the usual, and serves containment alone


def sorts_by_bytes(key: IndexKey) -> bool:
    """Whether a key is sorted by an operator class for patterns."""
    return "pattern_ops" in key.operator_class


def base_type(type_name: str) -> str:
    """A type's name without its length."""
    return type_name.partition("(")[0]
