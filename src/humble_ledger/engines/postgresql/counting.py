"""Counting what really stands in a table: these read it, and are asked for by name only."""

from __future__ import annotations

from collections.abc import Sequence

from psycopg import sql

from humble_ledger.core.estimates.counting import FEW_VALUES, ValueCounts
from humble_ledger.core.schema.facts import TableName
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.one_statement import UserCursor


def count(connection: Connection, table: TableName, conditions: Sequence[str]) -> int:
    """The rows of a table that meet all conditions, which are the server's own text."""
    source = sql.SQL("SELECT pg_catalog.count(*) FROM {} AS {} WHERE ").format(
        sql.Identifier(table.schema, table.name), sql.Identifier(table.name)
    )
    where = " AND ".join(f"({condition})" for condition in conditions) or "true"
    with translated(), UserCursor(connection) as cursor:
        row = cursor.execute((source.as_string(connection) + where).encode()).fetchone()
    assert row is not None
    return int(row[0])


def few_values(connection: Connection, table: TableName, column: str) -> list[str]:
    """The first values of a column that come, as text."""
    query = sql.SQL("SELECT {}::text FROM {} LIMIT {}").format(
        sql.Identifier(column),
        sql.Identifier(table.schema, table.name),
        sql.Literal(FEW_VALUES),
    )
    with translated():
        return [value for (value,) in connection.execute(query).fetchall() if value is not None]


def value_counts(connection: Connection, table: TableName, column: str, most: int) -> ValueCounts:
    """Rows, NULLs, distinct values and the most common ones, in one pass over the table."""
    query = sql.SQL(
        "WITH counted AS (SELECT {column} AS value, pg_catalog.count(*) AS rows FROM {table} "
        "GROUP BY 1) "
        "SELECT (SELECT coalesce(pg_catalog.sum(rows), 0) FROM counted), "
        "(SELECT coalesce(pg_catalog.sum(rows), 0) FROM counted WHERE value IS NULL), "
        "(SELECT pg_catalog.count(*) FROM counted WHERE value IS NOT NULL), "
        "(SELECT pg_catalog.array_agg(each.value::text ORDER BY each.rows DESC, each.value::text) "
        "FROM (SELECT value, rows FROM counted WHERE value IS NOT NULL "
        "ORDER BY rows DESC, value::text LIMIT {most}) AS each), "
        "(SELECT pg_catalog.array_agg(each.rows ORDER BY each.rows DESC, each.value::text) "
        "FROM (SELECT value, rows FROM counted WHERE value IS NOT NULL "
        "ORDER BY rows DESC, value::text LIMIT {most}) AS each)"
    ).format(
        column=sql.Identifier(column),
        table=sql.Identifier(table.schema, table.name),
        most=sql.Literal(most),
    )
    with translated():
        row = connection.execute(query).fetchone()
    assert row is not None
    rows, nulls, distinct, values, counts = row
    common = tuple(zip(values or (), (int(n) for n in counts or ()), strict=True))
    return ValueCounts(int(rows), int(nulls), int(distinct), common)
