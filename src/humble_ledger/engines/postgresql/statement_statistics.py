"""The view pg_stat_statements, in all its versions, as counters."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from psycopg import sql
from psycopg.rows import dict_row

from humble_ledger.core.statements.kinds import StatementKind, kind_of
from humble_ledger.core.workload.statistics import StatementCounters, StatisticsLook
from humble_ledger.core.workload.usage import Work
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.one_statement import OWN_MARK
from humble_ledger.errors import WrongUsage

ROOM = "pg_stat_statements.max"  # how many statements are kept
_WHERE_SQL = """
SELECT n.nspname AS schema,
    to_regclass(quote_ident(n.nspname) || '.pg_stat_statements_info') IS NOT NULL AS info,
    clock_timestamp() AS taken_at
FROM pg_extension e JOIN pg_namespace n ON n.oid = e.extnamespace
WHERE e.extname = 'pg_stat_statements'
"""
_COUNTERS_SQL = """
SELECT s.*, r.rolname, current_database() AS datname
FROM {view} s LEFT JOIN pg_roles r ON r.oid = s.userid
WHERE s.dbid = (SELECT oid FROM pg_database WHERE datname = current_database())
  AND s.calls > 0
"""
_HIDDEN = "<insufficient privilege>"
_COMPILE = ("jit_generation_time", "jit_inlining_time", "jit_optimization_time",
            "jit_emission_time")  # fmt: skip


def statistics_look(connection: Connection) -> StatisticsLook:
    """All counters of this database's statements, without our own and without those that
    have no plan.

    Raises:
        WrongUsage: the view is not there, or may not be read.
    """
    with translated(), connection.cursor(row_factory=dict_row) as cursor:
        place = cursor.execute(_WHERE_SQL).fetchone()
        if place is None:
            raise WrongUsage(
                "This database has no view pg_stat_statements.",
                "How to switch it on is told by:  humble preflight",
            )
        schema = str(place["schema"])
        view = sql.Identifier(schema, "pg_stat_statements")
        rows = cursor.execute(sql.SQL(_COUNTERS_SQL).format(view=view)).fetchall()
        info: Mapping[str, Any] = {}
        if place["info"]:
            about = sql.Identifier(schema, "pg_stat_statements_info")
            info = cursor.execute(sql.SQL("SELECT * FROM {}").format(about)).fetchone() or {}
    if rows and all(row["query"] == _HIDDEN for row in rows):
        raise WrongUsage(
            "The texts of other users' statements are hidden from the target's user.",
            "A superuser lets it read them:  GRANT pg_read_all_stats TO …",
        )
    wanted = [_counters(row) for row in rows if _is_wanted(row["query"])]
    taken_at: datetime = place["taken_at"]
    return StatisticsLook(taken_at, wanted, info.get("stats_reset"), info.get("dealloc"), ROOM)


def _is_wanted(query: str | None) -> bool:
    if not query or query == _HIDDEN or OWN_MARK in query:
        return False
    return kind_of(query) is not StatementKind.NO_PLAN


def _counters(row: Mapping[str, Any]) -> StatementCounters:
    return StatementCounters(
        key=f"{row['dbid']}/{row['userid']}/{row['queryid']}/{row.get('toplevel', True)}",
        sql=row["query"],
        user=row["rolname"] or "",
        database=row["datname"],
        calls=int(row["calls"]),
        total_ms=float(row["total_exec_time"]),
        mean_ms=float(row["mean_exec_time"]),
        deviation_ms=float(row["stddev_exec_time"]),
        max_ms=float(row["max_exec_time"]),
        work=Work(
            rows=float(row["rows"]),
            pages_cached=_both(row, "hit"),
            pages_read=_both(row, "read"),
            pages_written=_both(row, "written"),
            temp_pages=float(row["temp_blks_read"] + row["temp_blks_written"]),
            # Nought when pg_stat_statements.track_planning is off: then it is not known.
            planning_ms=float(row["total_plan_time"]) if row.get("plans") else None,
            wal_bytes=float(row["wal_bytes"]),
            compile_ms=sum(float(row[name]) for name in _COMPILE) if _COMPILE[0] in row else None,
        ),
        since=row.get("stats_since"),
    )


def _both(row: Mapping[str, Any], what: str) -> float:
    """Pages of shared tables and of the session's own temporary ones."""
    return float(row[f"shared_blks_{what}"] + row[f"local_blks_{what}"])
