"""Names of tables and columns as people write them, looked up in the catalogue."""

from __future__ import annotations

from psycopg import sql

from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.tokens import unquoted
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.transactions import reading
from humble_ledger.errors import StatementRejected, WrongUsage

OPERATORS = ("=", "<>", "<", "<=", ">", ">=")
_TABLE_SQL = """
SELECT n.nspname, c.relname
FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
WHERE c.oid = pg_catalog.to_regclass(%s)::oid AND c.relkind IN ('r', 'p', 'v', 'm', 'f')
"""
_COLUMNS_SQL = """
SELECT a.attname FROM pg_attribute a
JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = %s AND c.relname = %s AND a.attnum > 0 AND NOT a.attisdropped
ORDER BY a.attnum
"""
_LIKE_SQL = """
SELECT n.nspname, c.relname
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'm', 'f') AND n.nspname NOT LIKE 'pg\\_%%'
  AND n.nspname <> 'information_schema' AND lower(c.relname) LIKE lower(%s)
ORDER BY 1, 2 LIMIT 6
"""


def find_column(connection: Connection, words: str) -> tuple[TableName, str]:
    """A table, or a table's column, by a name like reading, app.reading or reading.buoy_id.

    Raises:
        WrongUsage: there is no such table or column.
    """
    table = _table(connection, words)
    if table is not None:
        return table, ""
    before, _, last = words.rpartition(".")
    table = _table(connection, before) if before else None
    if table is None:
        raise WrongUsage(
            f"There is no table {before or words} here that this user can find.",
            _alike(connection, (before or words).rpartition(".")[2]),
        )
    with translated():
        columns = [row[0] for row in connection.execute(_COLUMNS_SQL, (table.schema, table.name))]
    wanted = unquoted(last)
    found = next((c for c in columns if c in (wanted, wanted.lower())), None)
    if found is None:
        raise WrongUsage(
            f"The table {table} has no column {last}.", f"It has: {', '.join(columns)}."
        )
    return table, found


def condition(
    connection: Connection, table: TableName, column: str, operator: str, value: str
) -> str:
    """A column compared with a value; the server reads the value as one of its type."""
    assert operator in OPERATORS
    composed = sql.SQL("{}.{} " + operator + " {}").format(
        sql.Identifier(table.name), sql.Identifier(column), sql.Literal(value)
    )
    return composed.as_string(connection)


def _table(connection: Connection, words: str) -> TableName | None:
    for name in (words, sql.Identifier(*words.split(".")).as_string(connection)):
        try:
            with reading(connection), translated():
                row = connection.execute(_TABLE_SQL, (name,)).fetchone()
        except StatementRejected:
            continue  # no name of a table at all, as of three parts
        if row is not None:
            return TableName(row[0], row[1])
    return None


def _alike(connection: Connection, word: str) -> str:
    with translated():
        rows = connection.execute(_LIKE_SQL, (f"%{word.strip(chr(34))[:4]}%",)).fetchall()
    if not rows:
        return "A schema can be named, too:  humble table schema.table"
    return f"There is: {', '.join(str(TableName(*row)) for row in rows)}."
