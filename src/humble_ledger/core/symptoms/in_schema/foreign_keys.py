"""`foreign-key-without-index`: each delete on the other side reads this table whole."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping

from humble_ledger.core.messages import message
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
        yield Symptom(
            name="foreign-key-without-index",
            node=0,
            step="",
            summary=message(
                "refers-without-index",
                table=table.name,
                columns=key.columns,
                refers_to=key.refers_to,
            ),
            evidence={
                "table_pages": table.pages,
                "rows_estimated": table.rows,
                "deleted_on_the_other_side": deleted,
                "constraint": key.name,
            },
            cause=Cause(
                "no-index",
                message(
                    "reference-is-searched",
                    deleted=deleted,
                    refers_to=key.refers_to,
                    pages=table.pages,
                    columns=key.columns,
                    by_query=by_query,
                ),
            ),
            subject=f"{table.name}.{key.name}",
        )
