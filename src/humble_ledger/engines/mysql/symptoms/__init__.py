"""Findings that only this family's plans have; see `core.symptoms.case.Rule`."""

from __future__ import annotations

from humble_ledger.core.symptoms.case import Rule
from humble_ledger.engines.mysql.symptoms.column_statistics import nothing_known_of_column
from humble_ledger.engines.mysql.symptoms.converted_joins import converted_joins
from humble_ledger.engines.mysql.symptoms.long_lists import long_lists
from humble_ledger.engines.mysql.symptoms.merged_indexes import merged_indexes
from humble_ledger.engines.mysql.symptoms.prefixes import sorted_beside_prefix

RULES: tuple[Rule, ...] = (
    converted_joins,
    merged_indexes,
    sorted_beside_prefix,
    nothing_known_of_column,
    long_lists,
)
