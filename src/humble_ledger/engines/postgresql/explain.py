"""Composing EXPLAIN with every option the server's version offers, and running it."""

from __future__ import annotations

import contextlib
from typing import Any

import psycopg
from psycopg import RawCursor, sql
from psycopg.errors import error_from_result
from psycopg.pq import ExecStatus

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.statements.tokens import has_placeholders
from humble_ledger.engines.contract import PlanDocument
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.one_statement import UserCursor
from humble_ledger.engines.postgresql.plans.reader import read_plan
from humble_ledger.errors import StatementRejected, WrongUsage

MEMORY_FROM = 170000
GENERIC_FROM = 160000


def explain(
    connection: Connection,
    statement: Statement,
    *,
    measure: bool,
    version: str,
    timing: bool = True,
) -> PlanDocument:
    """Explain a statement on this connection, inside whatever transaction is open.

    Raises:
        StatementRejected: the server says that the statement is wrong.
        WrongUsage: it has placeholders without values and is to be measured.
    """
    generic = not statement.values and has_placeholders(statement.sql)
    if generic and measure:
        raise WrongUsage(
            "The statement has placeholders such as $1 and no values for them: it cannot be run.",
            "Write values in, take some with --values typical, or leave --measure out.",
        )
    number = connection.info.server_version
    prefix = _options(number, measure, timing, generic and number >= GENERIC_FROM)
    if generic:
        ask = _generic if number >= GENERIC_FROM else _generic_by_name
        document = ask(connection, prefix, statement.sql)
    else:
        document = _run(connection, prefix, statement)
    return PlanDocument(read_plan(document, version), document)


def _options(version: int, measure: bool, timing: bool, generic: bool) -> str:
    # ANALYZE on older servers refuses nothing here: all of these exist from version 13 on.
    wanted = ["VERBOSE", "SETTINGS", "SUMMARY", "FORMAT JSON"]
    if measure:
        wanted += ["ANALYZE", "BUFFERS", "WAL", f"TIMING {'ON' if timing else 'OFF'}"]
    if version >= MEMORY_FROM:
        wanted.append("MEMORY")
    if generic:
        wanted.append("GENERIC_PLAN")
    return f"EXPLAIN ({', '.join(wanted)}) "


def _run(connection: Connection, prefix: str, statement: Statement) -> Any:
    text = prefix + statement.sql
    with translated(statement.sql, behind=len(prefix)), UserCursor(connection) as cursor:
        cursor.execute(text.encode(), statement.values or None)
        row = cursor.fetchone()
    assert row is not None
    return row[0]


def _generic(connection: Connection, prefix: str, text: str) -> Any:
    """The plan for no values in particular, from version 16 on.

    Values cannot be sent with it, and without them the extended protocol refuses $1. So the
    server parses the very text first, by that protocol: it is one statement, by the server's own
    rules and under the settings that still hold when it comes once more behind EXPLAIN, which
    takes nothing but statements that have a plan.
    """
    connection.execute("SAVEPOINT humble_parsed")
    try:
        _parsed(connection, "", text)
    except StatementRejected as error:
        # The type of a value may be unknown here, which EXPLAIN does without; that it is one
        # statement was found before.
        if error.sqlstate != _UNKNOWN_TYPE:
            raise
        connection.execute("ROLLBACK TO SAVEPOINT humble_parsed")
    with translated(text, behind=len(prefix)), RawCursor(connection) as cursor:
        cursor.execute((prefix + text).encode())
        row = cursor.fetchone()
    assert row is not None
    return row[0]


_UNKNOWN_TYPE = "42P18"
_FORCED_SQL = "SELECT pg_catalog.set_config('plan_cache_mode', 'force_generic_plan', true)"


def _generic_by_name(connection: Connection, prefix: str, text: str) -> Any:
    """The same before version 16: prepare, then explain with plan caching forced."""
    name = "humble_generic"
    parameters = _parsed(connection, name, text)
    nulls = sql.SQL(", ").join([sql.NULL] * parameters)
    execute = sql.SQL("{}EXECUTE {} ({})").format(sql.SQL(prefix), sql.Identifier(name), nulls)
    with translated(text), connection.cursor() as cursor:
        try:
            cursor.execute(_FORCED_SQL)
            row = cursor.execute(execute).fetchone()
        finally:
            with contextlib.suppress(psycopg.Error):
                cursor.execute(sql.SQL("DEALLOCATE {}").format(sql.Identifier(name)))
    assert row is not None
    return row[0]


def _parsed(connection: Connection, name: str, text: str) -> int:
    """Let the server parse one statement, under a name; how many values it takes.

    Raises:
        StatementRejected: it is wrong, or more than one.
    """
    pgconn = connection.pgconn
    with translated(text):
        for result in (
            pgconn.prepare(name.encode(), text.encode()),
            pgconn.describe_prepared(name.encode()),
        ):
            if result.status != ExecStatus.COMMAND_OK:
                raise error_from_result(result)
    return result.nparams
