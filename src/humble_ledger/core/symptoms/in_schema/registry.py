"""All symptoms of a schema."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from datetime import datetime

from humble_ledger.core.dialect import STANDARD, Dialect
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.symptoms.in_schema.clustering import clustering_symptoms
from humble_ledger.core.symptoms.in_schema.foreign_keys import foreign_key_symptoms
from humble_ledger.core.symptoms.in_schema.indexes import CapturedUse, index_symptoms
from humble_ledger.core.symptoms.in_schema.statistics import statistics_symptoms, too_coarse_once
from humble_ledger.core.symptoms.model import Symptom


def schema_symptoms(
    tables: Mapping[TableName, TableFacts],
    searched: Collection[tuple[TableName, str]],
    now: datetime,
    used: CapturedUse,
    dialect: Dialect = STANDARD,
    by_chance: Collection[TableName] = (),
) -> list[Symptom]:
    """Every symptom of these tables; ``searched`` are the columns that captured queries use.

    ``by_chance`` are the tables kept in the order of keys that were seen to be drawn by chance.
    """
    found: list[Symptom] = []
    for name in sorted(tables, key=str):
        table = tables[name]
        found += index_symptoms(table, now, used, dialect)
        found += foreign_key_symptoms(table, tables, searched)
        found += statistics_symptoms(table, searched, dialect)
        found += clustering_symptoms(table, by_chance)
    roots = {str(name): table.root for name, table in tables.items() if table.root is not None}
    return list(too_coarse_once(found, roots))
