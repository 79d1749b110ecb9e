"""Explaining a statement on a connection, and running it with what the server measures."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import Any

from humble_ledger.core.statements.kinds import Statement, StatementKind, kind_of, require_plan
from humble_ledger.engines.contract import Outcome, PlanDocument
from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.engines.mysql.lexing import require_plain
from humble_ledger.engines.mysql.plans.iterators import tree_of_text
from humble_ledger.engines.mysql.plans.json_text import decoded
from humble_ledger.engines.mysql.plans.reading import plan_of
from humble_ledger.engines.mysql.plans.statement import context_in
from humble_ledger.engines.mysql.trace import prices_in
from humble_ledger.engines.mysql.values import filled, has_parameters
from humble_ledger.errors import HumbleError, StatementRejected

_TRACE_BYTES = 64 * 1024**2
_READING = "1003"  # the note with the server's own reading of a statement
# From here on the analyzed plan can be had as JSON.
_ANALYZED_JSON = 80300
# What MySQL's newer plans say in place of the steps of an UPDATE or DELETE of one table.
_NO_TREE = "not executable by iterator executor"


def prepared(connection: Connection, statement: Statement) -> str:
    """The statement as it is sent: with its values, and nothing in it that acts elsewhere.

    Raises:
        RefusedForSafety: it writes a file, or a comment in it would be run.
        StatementRejected: it has parameters without values.
    """
    modes = connection.modes
    require_plain(statement.sql, modes)
    if has_parameters(statement.sql) and not statement.values:
        raise StatementRejected(
            f"The statement has parameters such as $1, and {connection.member.name} plans none "
            "without their values.",
            "Give them:  --param 1=…  or capture the statement with its values.",
        )
    sql = filled(statement, modes)
    require_plain(sql, modes)
    return sql.strip().rstrip(";")


def kind(sql: str, modes: str) -> StatementKind:
    """What a statement does, by this family's own lexical rules."""
    return kind_of(require_plain(sql, modes))


def explained(
    connection: Connection, statement: Statement, engine: str, *, measure: bool, database: str
) -> PlanDocument:
    """The plan of a statement; with ``measure`` it is run.

    Raises:
        HumbleError: it has none, it is refused, or it runs too long.
    """
    require_plan(require_plain(statement.sql, connection.modes))
    sql = prepared(connection, statement)
    with _traced(connection):
        plan, reading, warnings = _estimated(connection, sql)
        prices = _prices(connection)
    document: dict[str, Any] = {
        "mysql_plan": 1,
        "engine": engine,
        "version": connection.member.version,
        "plan": plan,
        **context_in(sql, reading, database),
    }
    if prices:
        document["prices"] = prices
    if warnings:
        document["warnings"] = warnings
    if measure:
        begun = time.perf_counter()
        if _is_older_form(plan) and not connection.member.mariadb:
            connection.do(sql)  # there is no plan with figures for it: what it took is all
        else:
            document["plan"] = _measured(connection, sql)
        document["took_ms"] = (time.perf_counter() - begun) * 1000
    return PlanDocument(plan_of(document, engine, ""), document)


def _estimated(connection: Connection, sql: str) -> tuple[Any, str, list[str]]:
    text = str(connection.one(f"EXPLAIN FORMAT=JSON {sql}"))
    if _NO_TREE in text:
        with _setting(connection, "explain_json_format_version", "1"):
            text = str(connection.one(f"EXPLAIN FORMAT=JSON {sql}"))
    reading, warnings = "", []
    if connection.member.mariadb:
        # Its JSON comes without the note that has the server's own reading.
        connection.rows(f"EXPLAIN EXTENDED {sql}")
    for _, code, words in connection.rows("SHOW WARNINGS"):
        if str(code) == _READING:
            reading = str(words)
        else:
            warnings.append(str(words))
    return _decoded(text), reading, warnings


def _is_older_form(plan: Any) -> bool:
    """Whether MySQL planned a change of one table, which only the older form of plans shows."""
    table = plan.get("query_block", {}).get("table") if isinstance(plan, dict) else None
    return isinstance(table, dict) and any(table.get(word) for word in ("update", "delete"))


def _measured(connection: Connection, sql: str) -> Any:
    if connection.member.mariadb:
        return _decoded(str(connection.one(f"ANALYZE FORMAT=JSON {sql}")))
    if connection.member.number >= _ANALYZED_JSON:
        with _setting(connection, "explain_json_format_version", "2"):
            return _decoded(str(connection.one(f"EXPLAIN ANALYZE FORMAT=JSON {sql}")))
    return {"tree": tree_of_text(str(connection.one(f"EXPLAIN ANALYZE {sql}")))}


def _decoded(text: str) -> Any:
    try:
        return decoded(text)
    except ValueError as error:
        raise StatementRejected(f"The server's plan is no whole document: {error}.") from error


@contextmanager
def _traced(connection: Connection) -> Iterator[None]:
    """The optimizer's trace switched on, where the plan itself tells no costs."""
    if not connection.member.mariadb:
        yield
        return
    try:
        connection.do("SET optimizer_trace = 'enabled=on'")
        connection.do(f"SET optimizer_trace_max_mem_size = {_TRACE_BYTES}")
    except HumbleError:
        yield
        return
    try:
        yield
    finally:
        connection.do("SET optimizer_trace = 'enabled=off'")


def _prices(connection: Connection) -> Mapping[str, Any]:
    if not connection.member.mariadb:
        return {}
    try:
        rows = connection.rows(
            "SELECT TRACE, MISSING_BYTES_BEYOND_MAX_MEM_SIZE "
            "FROM information_schema.OPTIMIZER_TRACE"
        )
    except HumbleError:
        return {}
    return prices_in(str(rows[-1][0])) if rows and not int(rows[-1][1] or 0) else {}


@contextmanager
def _setting(connection: Connection, name: str, value: str) -> Iterator[None]:
    before = connection.one(f"SELECT @@SESSION.{name}")
    connection.do(f"SET SESSION {name} = {value}")
    try:
        yield
    finally:
        connection.do(f"SET SESSION {name} = {before}")


def outcome(connection: Connection, statement: Statement, sql: str = "") -> Outcome:
    """Run a statement, fetch its result, and time it; the rows that came, or that it changed."""
    text = sql or prepared(connection, statement)
    begun = time.perf_counter()
    cursor = connection.stream(text)
    rows = 0
    try:
        while batch := connection.fetched(cursor):
            rows += len(batch)
        changed = cursor.rowcount
    finally:
        connection.finished(cursor)
    took = (time.perf_counter() - begun) * 1000
    # Without rows the driver has the number of those that were changed, or one beyond all.
    return Outcome(took, rows if rows or not 0 < changed < 2**62 else int(changed))
