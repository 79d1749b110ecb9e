"""What one session runs now, and how far it is by the server's progress views.

The plan of a running statement is shown by no view; of the commands that take long (building an
index, VACUUM, ANALYZE, CLUSTER, COPY) the server tells phase and counts.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from psycopg import sql
from psycopg.rows import dict_row

from humble_ledger.core.workload.following import Done
from humble_ledger.engines.contract import Running
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated

_RUNS_SQL = """
SELECT query, 1000 * extract(epoch FROM clock_timestamp() - query_start) AS elapsed_ms
FROM pg_stat_activity WHERE pid = %s AND state = 'active' AND query <> ''
"""
_VIEWS_SQL = """
SELECT c.relname FROM pg_class c WHERE c.relnamespace = 'pg_catalog'::regnamespace
  AND c.relkind = 'v' AND starts_with(c.relname, 'pg_stat_progress_') AND c.relname <> %s
"""
_NOT_OF_STATEMENTS = "pg_stat_progress_basebackup"
# What is counted, and of how many, by the columns' names in these views.
_COUNTED: Mapping[str, tuple[str, str]] = {
    "blocks": ("blocks_done", "blocks_total"),
    "rows": ("tuples_done", "tuples_total"),
    "partitions": ("partitions_done", "partitions_total"),
    "blocks of the table": ("heap_blks_scanned", "heap_blks_total"),
    "sampled blocks": ("sample_blks_scanned", "sample_blks_total"),
    "bytes": ("bytes_processed", "bytes_total"),
    "rows copied": ("tuples_processed", ""),
    "rows read": ("heap_tuples_scanned", ""),
}


def running(connection: Connection, session: int) -> Running | None:
    """What a session runs; None when it runs nothing, or is not there."""
    with translated(), connection.cursor(row_factory=dict_row) as cursor:
        found = cursor.execute(_RUNS_SQL, (session,)).fetchone()
        if found is None:
            return None
        done: list[Done] = []
        views = cursor.execute(_VIEWS_SQL, (_NOT_OF_STATEMENTS,)).fetchall()
        for view in views:
            asked = sql.SQL("SELECT * FROM pg_catalog.{} WHERE pid = %s").format(
                sql.Identifier(view["relname"])
            )
            for row in cursor.execute(asked, (session,)).fetchall():
                done += _done(view["relname"].removeprefix("pg_stat_progress_"), row)
    return Running(str(found["query"]), float(found["elapsed_ms"]), None, tuple(done))


def _done(command: str, row: Mapping[str, Any]) -> list[Done]:
    phase = str(row.get("phase") or row.get("command") or "")
    what = f"{command.replace('_', ' ')}, {phase}" if phase else command.replace("_", " ")
    counted = [
        Done(f"{what}: {unit}", float(row[done]), float(row[of]) if of and row.get(of) else None)
        for unit, (done, of) in _COUNTED.items()
        if row.get(done) is not None and (row.get(done) or (of and row.get(of)))
    ]
    return counted or [Done(f"{what}: nothing counted yet", 0.0)]
