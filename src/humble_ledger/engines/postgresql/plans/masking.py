"""A plan's document without its literals."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from humble_ledger.core.statements.masking import masked_expression

# Keys whose text is a name or a word of the server's own. Every other text may be a statement or
# a condition, also those that a later version will bring.
_NAMES = frozenset(
    """Alias|Async Capable|CTE Name|Command|Constraint Name|Custom Plan Provider|Function Name
    |Index Name|Join Type|Node Type|Operation|Parent Relationship|Partial Mode|Query Identifier
    |Relation|Relation Name|Scan Direction|Schema|Sort Method|Sort Methods Used|Sort Space Type
    |Storage|Strategy|Subplan Name|Trigger Name|Tuplestore Name""".replace("\n    ", "").split("|")
)


def masked_document(document: Any, key: str = "") -> Any:
    """A plan's document without literals."""
    if isinstance(document, Mapping) and key == "Settings":
        return document
    if isinstance(document, Mapping):
        return {name: masked_document(value, name) for name, value in document.items()}
    if isinstance(document, list):
        return [masked_document(each, key) for each in document]
    if isinstance(document, str) and key not in _NAMES:
        return masked_expression(document)
    return document
