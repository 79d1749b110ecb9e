"""Removing an index as a remedy: for what it costs writers, and the space it takes."""

from __future__ import annotations

from humble_ledger.core.remedies.model import Remedy, RemedyType, Upkeep
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.schema.quoting import table_identifier
from humble_ledger.core.symptoms.model import Symptom

_SUPERFLUOUS = ("repeated-index", "contained-index", "unused-index", "invalid-index")


def removal(table: TableFacts, symptom: Symptom) -> Remedy | None:
    """The remedy «remove this index» for a symptom of a schema; None for one of another kind."""
    if symptom.name not in _SUPERFLUOUS:
        return None
    index = next((i for i in table.indexes if symptom.subject == f"{table.name}.{i.name}"), None)
    if index is None:
        return None
    name = table_identifier(TableName(table.name.schema, index.name))
    writes = table.writes
    return Remedy(
        type=RemedyType.REMOVAL,
        summary=f"remove the index {index.name} of {table.name}",
        apply=(f"DROP INDEX {name};",),
        revert=(f"{index.definition};",),
        reason=symptom.cause.detail,
        cures=(symptom.name,),
        size_bytes_predicted=-index.size_bytes,
        upkeep=Upkeep(
            writes.inserted,
            writes.updated,
            writes.updated_in_page / writes.updated if writes.updated else None,
        ),
    )
