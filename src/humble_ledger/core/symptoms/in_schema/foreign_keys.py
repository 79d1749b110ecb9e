"""`foreign-key-without-index`: each delete on the other side reads this table whole."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping

from humble_ledger.core.schema.facts import TableFacts, TableName, indexed_reference
from humble_ledger.core.symptoms.model import Cause, Symptom


def foreign_key_symptoms(
    table: TableFacts,
    tables: Mapping[TableName, TableFacts],
    joined: Collection[tuple[TableName, str]],
) -> Iterable[Symptom]:
    """Of foreign keys whose columns begin no index, where deletes or joins hurt.

    ``joined`` has the columns by which captured queries search or join.
    """
    for key in table.foreign_keys:
        if table.is_small or indexed_reference(table, key):
            continue
        other = tables.get(key.refers_to)
        deleted = other.writes.deleted if other is not None else 0
        by_query = any((table.name, column) in joined for column in key.columns)
        if not deleted and not by_query:
            continue
        told = ", ".join(key.columns)
        reasons = []
        if deleted:
            reasons.append(
                f"{deleted:,} rows of {key.refers_to} were deleted since the counters were reset, "
                f"and each looks for its rows here, through {table.pages:,} pages"
            )
        if by_query:
            reasons.append(f"captured queries join or search by {told}")
        yield Symptom(
            name="foreign-key-without-index",
            node=0,
            step="",
            summary=(
                f"{table.name} ({told}) refers to {key.refers_to}, and no index begins with {told}"
            ),
            evidence={
                "table_pages": table.pages,
                "rows_estimated": table.rows,
                "deleted_on_the_other_side": deleted,
                "constraint": key.name,
            },
            cause=Cause("no-index", "; ".join(reasons)),
            subject=f"{table.name}.{key.name}",
        )
