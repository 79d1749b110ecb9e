"""Columns whose values move together, about which statistics could be kept."""

from __future__ import annotations

from dataclasses import dataclass

from humble_ledger.core.remedies.index_text import parse_index
from humble_ledger.core.schema.facts import TableName
from humble_ledger.errors import WrongUsage

MOST_COLUMNS = 8


@dataclass(frozen=True, slots=True)
class ColumnGroup:
    """Two to eight columns of one table."""

    table: TableName
    columns: tuple[str, ...]

    @property
    def words(self) -> str:
        """As people write it: "alert (code, crew)"."""
        return f"{self.table} ({', '.join(self.columns)})"


def parse_group(text: str, default_schema: str) -> ColumnGroup:
    """Read "alert (code, crew)".

    Raises:
        UnreadableInput: it is not of that form.
        WrongUsage: it names expressions, one column alone, or too many.
    """
    design = parse_index(text, default_schema)
    columns = tuple(key.column for key in design.keys)
    plain = not design.included and not design.predicate
    if not plain or "" in columns or not 2 <= len(set(columns)) <= MOST_COLUMNS:
        raise WrongUsage(
            f'"{text}" is no group of columns that statistics can be supposed of.',
            f'Name two to {MOST_COLUMNS} columns of a table:  --statistics "alert (code, crew)"',
        )
    return ColumnGroup(design.table, tuple(dict.fromkeys(columns)))
