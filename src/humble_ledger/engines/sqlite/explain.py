"""Explaining a statement on a connection, and running it with what the library counts."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field

import apsw

from humble_ledger.core.statements.kinds import (
    Statement,
    StatementKind,
    kind_of,
    require_plan,
)
from humble_ledger.engines.contract import Outcome, PlanDocument
from humble_ledger.engines.sqlite.behind import SetOff, keys_kept, set_off
from humble_ledger.engines.sqlite.one_statement import execute, require_one
from humble_ledger.engines.sqlite.plans.building import Builder
from humble_ledger.engines.sqlite.plans.drafts import Draft, add_set_off
from humble_ledger.engines.sqlite.plans.format import SqlitePlans
from humble_ledger.engines.sqlite.plans.knowledge import Knowledge
from humble_ledger.engines.sqlite.plans.listing import apart, lines_of
from humble_ledger.engines.sqlite.plans.statement import read_statement
from humble_ledger.engines.sqlite.schema import Schema
from humble_ledger.engines.sqlite.values import filled, prepared

# The library's counters of one run (manual, "Prepared Statement Status Counters"), and our names.
_COUNTED = {
    "SQLITE_STMTSTATUS_FULLSCAN_STEP": "full_scan_steps",
    "SQLITE_STMTSTATUS_SORT": "sorts",
    "SQLITE_STMTSTATUS_AUTOINDEX": "automatic_index_rows",
    "SQLITE_STMTSTATUS_VM_STEP": "virtual_machine_steps",
    "SQLITE_STMTSTATUS_MEMUSED": "memory_bytes",
}


@dataclass(slots=True)
class Work:
    """What one run took: milliseconds until the first row and in all, rows, and counters."""

    first_ms: float = 0.0
    ms: float = 0.0
    rows: int = 0
    counted: dict[str, int] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Listing:
    """The rows of EXPLAIN QUERY PLAN, and the milliseconds that planning took.

    ``behind`` is what a change sets off for each row.
    """

    rows: Sequence[Sequence[object]]
    planning_ms: float
    behind: Sequence[SetOff] = ()


def listing(connection: apsw.Connection, statement: Statement, schema: Schema) -> Listing:
    """What the planner would do with a statement; nothing is run."""
    require_plan(statement.sql)
    sql, given = prepared(statement)
    begun = time.perf_counter()
    with keys_kept(connection, kept=False):  # what they take is told apart
        rows = execute(connection, f"EXPLAIN QUERY PLAN {sql}", given, can_cache=False).fetchall()
    took = (time.perf_counter() - begun) * 1000
    return Listing(rows, took, set_off(connection, statement, sql, given, schema))


def explained(
    found: Listing,
    statement: Statement,
    schema: Schema,
    knowledge: Knowledge,
    work: Work | None = None,
) -> PlanDocument:
    """The plan of a statement, with what a run of it took."""
    lines = lines_of(found.rows)
    try:
        reading = read_statement(filled(statement), schema, apart(lines))
        root = Builder(knowledge, reading).root(lines)
    except RecursionError:  # nested deeper than anybody reads: the steps without conditions
        root = Builder(knowledge, None).root(lines)
    if found.behind:
        add_set_off(root, _drafts(found.behind, schema, knowledge))
    document: dict[str, object] = {
        "sqlite_plan": 1,
        "version": apsw.sqlite_lib_version(),
        "root": root,
        "listing": [str(row[3]) for row in found.rows],
    }
    if work is not None:
        document["planning_ms"] = found.planning_ms
        document["measured"] = {
            "ms": work.ms,
            "first_ms": work.first_ms,
            "rows": work.rows,
            "work": work.counted,
        }
    return PlanDocument(SqlitePlans().read(document), document)


def _drafts(
    behind: Sequence[SetOff], schema: Schema, knowledge: Knowledge
) -> Iterator[tuple[str, Draft]]:
    for each in behind:
        lines = lines_of(each.listing)
        reading = read_statement(each.sql, schema, apart(lines))
        yield each.label, Builder(knowledge, reading).root(lines)


def run(connection: apsw.Connection, statement: Statement) -> Work:
    """Run a statement, fetch all its rows, and count."""
    work = Work()
    with _counting(connection, work):
        sql, given = prepared(statement)
        require_one(connection, sql)
        begun = time.perf_counter()
        cursor = connection.execute(sql, given, can_cache=False)
        first = None
        for _ in cursor:
            if first is None:
                first = time.perf_counter()
            work.rows += 1
        ended = time.perf_counter()
    work.ms = (ended - begun) * 1000
    work.first_ms = ((first or ended) - begun) * 1000
    return work


def outcome(connection: apsw.Connection, statement: Statement) -> Outcome:
    """Run a statement and time it; the rows that came, or those that were changed."""
    sql, given = prepared(statement)
    require_one(connection, sql)
    begun = time.perf_counter()
    rows = 0
    for _ in connection.execute(sql, given):
        rows += 1
    took = (time.perf_counter() - begun) * 1000
    changes = kind_of(statement.sql) is StatementKind.CHANGES
    return Outcome(took, connection.changes() if changes and not rows else rows)


@contextmanager
def _counting(connection: apsw.Connection, work: Work) -> Iterator[None]:
    def keep(event: dict[str, object]) -> None:
        status = event.get("stmt_status")
        if isinstance(status, dict):
            work.counted = {ours: int(status.get(name, 0)) for name, ours in _COUNTED.items()}

    connection.trace_v2(apsw.SQLITE_TRACE_PROFILE, keep)
    try:
        yield
    finally:
        connection.trace_v2(0)
