"""All symptoms of a schema."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from datetime import datetime

from humble_ledger.core.dialect import STANDARD, Dialect
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.symptoms.in_schema.foreign_keys import foreign_key_symptoms
from humble_ledger.core.symptoms.in_schema.indexes import CapturedUse, index_symptoms
from humble_ledger.core.symptoms.in_schema.statistics import statistics_symptoms
from humble_ledger.core.symptoms.model import Symptom


def schema_symptoms(
    tables: Mapping[TableName, TableFacts],
    searched: Collection[tuple[TableName, str]],
    now: datetime,
    used: CapturedUse,
    dialect: Dialect = STANDARD,
) -> list[Symptom]:
    """Every symptom of these tables; ``searched`` are the columns that captured queries use."""
    found: list[Symptom] = []
    for name in sorted(tables, key=str):
        table = tables[name]
        found += index_symptoms(table, now, used)
        found += foreign_key_symptoms(table, tables, searched)
        found += statistics_symptoms(table, searched, dialect)
    return found
