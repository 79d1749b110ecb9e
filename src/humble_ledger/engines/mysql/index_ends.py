"""Which index gave min or max while the plan was made, as the server does not say it.

A statement that asks for no more than the ends of an index is answered before it is planned:
"Select tables optimized away", "Rows fetched before execution". The index is one whose keys are the
columns that are compared with a value, followed by the one asked about.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from humble_ledger.core.plans.model import Operation, Plan
from humble_ledger.core.statements.conditions import columns_of
from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.engines.mysql.plans.tables import BEFOREHAND

# What `ignoring.without` writes.
_IGNORED = re.compile(r" IGNORE INDEX \(((?:`(?:[^`]|``)*`(?:, )?)+)\)")
_QUOTED = re.compile(r"`((?:[^`]|``)*)`")
_BEFOREHAND = (BEFOREHAND, "Rows fetched before execution")
_INDEXES = (
    "SELECT INDEX_NAME, COLUMN_NAME FROM information_schema.STATISTICS "
    "WHERE TABLE_SCHEMA = %s AND TABLE_NAME = %s AND COLUMN_NAME IS NOT NULL "
    "ORDER BY INDEX_NAME = 'PRIMARY', INDEX_NAME, SEQ_IN_INDEX"
)


def index_read_at_its_end(
    plan: Plan, document: Mapping[str, Any], sql: str, on: Connection, database: str
) -> str:
    """The name of that index on this connection; "" where none was read so, or it is not known.

    Indexes that the statement is told to ignore were not.
    """
    if not any(n.operation is Operation.RESULT and n.name in _BEFOREHAND for n in plan.nodes()):
        return ""
    tables = document.get("tables", {})
    output = [text for b in document.get("blocks", {}).values() for text in b.get("output", ())]
    if len(tables) != 1 or not output:
        return ""
    ((alias, (schema, table)),) = tables.items()
    asked = {ref.column.lower() for text in output for ref in columns_of(str(text))}
    equal = {
        name.partition(".")[2].lower()
        for name in document.get("values", {})
        if name.startswith(f"{alias}.")
    }
    keys: dict[str, list[str]] = {}
    for index, column in on.asked(_INDEXES, schema or database, table):
        keys.setdefault(str(index), []).append(str(column).lower())
    ignored = {
        name.replace("``", "`") for told in _IGNORED.findall(sql) for name in _QUOTED.findall(told)
    }
    seen = ((name, k) for name, k in keys.items() if name not in ignored)
    return next((name for name, k in seen if _ends_at(k, asked, equal)), "")


def _ends_at(keys: Sequence[str], asked: set[str], equal: set[str]) -> bool:
    """Whether the first key that is not compared is the only one asked about."""
    first = next((key for key in keys if key not in equal), "")
    return asked == {first}
