"""Composing EXPLAIN with every option the server's version offers, and running it."""

from __future__ import annotations

from typing import Any

from psycopg import RawCursor, sql

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.statements.tokens import TokenKind, has_placeholders, tokens
from humble_ledger.engines.contract import PlanDocument
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.plan_reader import read_plan
from humble_ledger.errors import WrongUsage

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
    if generic and number < GENERIC_FROM:
        document = _explain_prepared(connection, statement.sql)
    else:
        document = _run(connection, _options(number, measure, timing, generic), statement)
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
    with translated(statement.sql, behind=len(prefix)), RawCursor(connection) as cursor:
        cursor.execute(text.encode(), statement.values or None)
        row = cursor.fetchone()
    assert row is not None
    return row[0]


def _explain_prepared(connection: Connection, text: str) -> Any:
    """The generic plan before version 16: prepare, then explain with plan caching forced."""
    name = sql.Identifier("humble_generic")
    highest = max(
        int(t.text[1:]) for t in tokens(text) if t.kind is TokenKind.PARAMETER and t.text[0] == "$"
    )
    nulls = sql.SQL(", ").join([sql.NULL] * highest)
    prepare = sql.SQL("PREPARE {} AS ").format(name).as_string(connection)
    with translated(text, behind=len(prepare)), connection.cursor() as cursor:
        cursor.execute("SELECT set_config('plan_cache_mode', 'force_generic_plan', false)")
        try:
            cursor.execute((prepare + text).encode())
            cursor.execute(
                sql.SQL("EXPLAIN (VERBOSE, SETTINGS, SUMMARY, FORMAT JSON) EXECUTE {} ({})").format(
                    name, nulls
                )
            )
            row = cursor.fetchone()
            cursor.execute(sql.SQL("DEALLOCATE {}").format(name))
        finally:
            cursor.execute("SELECT set_config('plan_cache_mode', 'auto', false)")
    assert row is not None
    return row[0]
