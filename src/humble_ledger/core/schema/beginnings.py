"""Keys that hold the first characters of a column's values only.

Such an index finds rows; it can neither sort by the column nor stand in for the table.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from humble_ledger.core.schema.facts import IndexKey

_FORM = re.compile(r"left\((?P<column>\w+), (?P<length>\d+)\)")


@dataclass(frozen=True, slots=True)
class Beginning:
    """The first ``length`` characters of a column (bytes, of one without a character set)."""

    column: str
    length: int

    @property
    def key(self) -> IndexKey:
        """It as the key of an index."""
        return IndexKey("", f"left({self.column}, {self.length})")


def beginning_of(key: IndexKey) -> Beginning | None:
    """What a key holds of a column; None for a whole column and any other expression."""
    found = None if key.column else _FORM.fullmatch(key.expression)
    return Beginning(found["column"], int(found["length"])) if found is not None else None
