"""What such a server tells of its tables, by the views that the standard has."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence

from humble_ledger.core.schema.facts import ColumnFacts, IndexFacts, IndexKey, TableFacts, TableName
from humble_ledger.engines.postgresql.others.reaching import Reached, Rows

_TABLES = (
    "SELECT table_schema, table_name FROM information_schema.tables WHERE table_type = 'BASE TABLE'"
)
_COLUMNS = (
    "SELECT table_schema, table_name, column_name, data_type, is_nullable, ordinal_position "
    "FROM information_schema.columns"
)
# The first view is not of the standard, and has an index taken apart already.
_KEYS = (
    "SELECT table_schema, table_name, index_name, non_unique, seq_in_index, column_name, "
    "direction, storing, implicit FROM information_schema.statistics"
)
_DEFINITIONS = "SELECT schemaname, tablename, indexname, indexdef FROM pg_catalog.pg_indexes"
_ROWS = (
    "SELECT n.nspname, c.relname, c.reltuples FROM pg_catalog.pg_class c "
    "JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace"
)
_OWN = frozenset(
    ("pg_catalog", "information_schema", "crdb_internal", "pg_extension", "sys", "system",
     "mz_catalog", "mz_internal", "rw_catalog")
)  # fmt: skip
_DEFINED = re.compile(r"\((?P<keys>[^()]*)\)")
_KEY = re.compile(r'^"?(?P<name>[\w$]+)"?(?: (?P<descending>DESC))?')
_PAGE_BYTES = 8192


def user_tables(reached: Reached) -> Sequence[TableName]:
    """The tables that are no server's own; () where it has no such view."""
    found = reached.ask(_TABLES) or []
    return tuple(TableName(str(s), str(t)) for s, t in found if str(s) not in _OWN)


def table_facts(reached: Reached, names: Iterable[TableName]) -> Mapping[TableName, TableFacts]:
    """What is known of these tables; nothing of one whose indexes are not told.

    A table without its indexes would look as if it had none.
    """
    wanted = set(names)
    columns, indexes = reached.ask(_COLUMNS), _indexes(reached)
    if not columns or indexes is None:
        return {}
    rows = {(str(s), str(t)): float(n or 0) for s, t, n in reached.ask(_ROWS) or []}
    found: dict[TableName, dict[str, ColumnFacts]] = {}
    for schema, table, column, type_name, nullable, position in columns:
        name = TableName(str(schema), str(table))
        if name in wanted:
            found.setdefault(name, {})[str(column)] = ColumnFacts(
                str(column), str(type_name), int(position or 0), str(nullable) == "NO", -1, 4
            )
    return {
        name: TableFacts(
            name,
            "table",
            max(0.0, rows.get((name.schema, name.name), 0.0)),
            0,
            0,
            _PAGE_BYTES,
            known,
            tuple(indexes.get(name, ())),
        )
        for name, known in found.items()
    }


def _indexes(reached: Reached) -> Mapping[TableName, list[IndexFacts]] | None:
    """The indexes of every table; None where the server tells of none."""
    keys = reached.ask(_KEYS)
    if keys is not None:
        return _of_keys(keys)
    definitions = reached.ask(_DEFINITIONS)
    return _of_definitions(definitions) if definitions is not None else None


def _of_keys(keys: Rows) -> Mapping[TableName, list[IndexFacts]]:
    grouped: dict[tuple[str, str, str], Rows] = {}
    for row in keys:
        grouped.setdefault((str(row[0]), str(row[1]), str(row[2])), []).append(row)
    found: dict[TableName, list[IndexFacts]] = {}
    for (schema, table, name), rows in grouped.items():
        ordered = sorted(rows, key=lambda row: int(row[4] or 0))
        led = [r for r in ordered if str(r[7]).upper() != "YES" and str(r[8]).upper() != "YES"]
        found.setdefault(TableName(schema, table), []).append(
            IndexFacts(
                name,
                "btree",
                tuple(IndexKey(str(r[5]), descending=str(r[6]).upper() == "DESC") for r in led),
                tuple(str(r[5]) for r in ordered if str(r[7]).upper() == "YES"),
                unique=str(ordered[0][3]).upper() == "NO",
            )
        )
    return found


def _of_definitions(definitions: Rows) -> Mapping[TableName, list[IndexFacts]]:
    found: dict[TableName, list[IndexFacts]] = {}
    for schema, table, name, text in definitions:
        listed = _DEFINED.search(str(text))
        if listed is None:
            continue
        keys = [_KEY.match(part.strip()) for part in listed["keys"].split(",")]
        if any(key is None for key in keys):
            continue  # an expression: its columns lead nowhere by themselves
        found.setdefault(TableName(str(schema), str(table)), []).append(
            IndexFacts(
                str(name),
                "btree",
                tuple(
                    IndexKey(key["name"], descending=key["descending"] is not None)
                    for key in keys
                    if key is not None
                ),
                unique=" UNIQUE " in str(text).upper(),
                definition=str(text),
            )
        )
    return found
