"""What a target keeps of the expressions in its statistics objects, into a hollow.

The server keeps it as an array of rows of its catalogue of columns, whose values are of the
expressions' own types. No text can be read as such a row; but a table with a column of each
expression's type can be given the statistics, and its rows then be put together.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import groupby

import psycopg
from psycopg import sql

from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.hollow.source import ExpressionStatistics
from humble_ledger.engines.postgresql.hollow.statistics import StatisticsWriter
from humble_ledger.engines.postgresql.one_statement import UserCursor
from humble_ledger.errors import HumbleError

_BESIDE = "humble_expressions"
_KNOWN_SQL = """
SELECT e.oid::bigint, pg_get_statisticsobjdef_expressions(e.oid)
FROM pg_statistic_ext e JOIN pg_namespace n ON n.oid = e.stxnamespace
WHERE n.nspname = %s AND e.stxname = %s
"""
# Rows as ANALYZE keeps them, in the order of the expressions; those without are empty.
_TOGETHER_SQL = """
SELECT array_agg(s ORDER BY s.staattnum) FROM pg_statistic s WHERE s.starelid = %s::regclass
"""
_INHERITED_FROM = 150_000


def write_expressions(
    builder: Connection, admin: Connection, found: Sequence[ExpressionStatistics]
) -> list[str]:
    """Give the statistics objects of a hollow what is known of their expressions.

    ``builder`` owns the hollow and has no rights beyond it: the expressions are a stranger's.
    Gives the objects of which nothing could be carried over.
    """
    failed = []
    kept = sorted(found, key=lambda e: (e.schema, e.name, e.found.inherited))
    for (schema, name, inherited), group in groupby(
        kept, key=lambda e: (e.schema, e.name, e.found.inherited)
    ):
        try:
            if not _written(builder, admin, schema, name, inherited, list(group)):
                failed.append(f"{schema}.{name}")
        except (psycopg.Error, HumbleError):
            failed.append(f"{schema}.{name}")
    return failed


def _written(
    builder: Connection,
    admin: Connection,
    schema: str,
    name: str,
    inherited: bool,
    found: Sequence[ExpressionStatistics],
) -> bool:
    row = admin.execute(_KNOWN_SQL, (schema, name)).fetchone()
    known = {e.expression: e.found for e in found}
    if row is None or not row[1] or any(text not in known for text in row[1]):
        return False
    number, expressions = row
    beside = sql.Identifier(schema, _BESIDE).as_string(None)
    of = sql.Identifier(found[0].found.schema, found[0].found.table).as_string(None)
    columns = ", ".join(f"({text}) AS e{n}" for n, text in enumerate(expressions))
    text = f"CREATE TABLE {beside} AS SELECT {columns} FROM {of} WITH NO DATA"  # noqa: S608
    with UserCursor(builder) as cursor:
        cursor.execute(text.encode())
    try:
        writer = StatisticsWriter(admin)
        for n, text in enumerate(expressions):
            own = replace(
                known[text], schema=schema, table=_BESIDE, column=f"e{n}", inherited=False
            )
            if not writer.column(own):
                return False
        _put(admin, int(str(number)), inherited, beside)
    finally:
        builder.execute(f"DROP TABLE {beside}".encode())
    return True


def _put(admin: Connection, number: int, inherited: bool, beside: str) -> None:
    """Into the row that holds what else the object keeps, or into one of its own."""
    of_children = admin.info.server_version >= _INHERITED_FROM
    where = " AND stxdinherit = %s" if of_children else ""
    given = [number, inherited] if of_children else [number]
    done = admin.execute(
        f"UPDATE pg_statistic_ext_data SET stxdexpr = ({_TOGETHER_SQL}) "  # noqa: S608
        f"WHERE stxoid = %s{where}",
        [beside, *given],
    )
    if done.rowcount == 0:
        names = "stxoid, stxdinherit, stxdexpr" if of_children else "stxoid, stxdexpr"
        marks = "%s, %s" if of_children else "%s"
        admin.execute(
            f"INSERT INTO pg_statistic_ext_data ({names}) VALUES ({marks}, ({_TOGETHER_SQL}))",  # noqa: S608
            [*given, beside],
        )
