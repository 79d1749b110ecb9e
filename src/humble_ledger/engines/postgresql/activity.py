"""The view pg_stat_activity as looks at what every session does."""

from __future__ import annotations

from psycopg.rows import dict_row

from humble_ledger.core.workload.sampling import ActivityLook, SessionLook
from humble_ledger.engines.contract import APPLICATION_NAME
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated

# Blockers are asked for only of sessions that wait for a lock: the question takes a short
# lock of the server's own.
_ACTIVITY_SQL = """
SELECT clock_timestamp() AS now, a.pid, coalesce(a.usename, '') AS usename,
    coalesce(a.datname, '') AS datname, a.application_name, coalesce(a.state, '') AS state,
    coalesce(a.query, '') AS query, coalesce(a.wait_event_type, '') AS wait_event_type,
    coalesce(a.wait_event, '') AS wait_event, a.xact_start, a.query_start, a.state_change,
    CASE WHEN a.wait_event_type = 'Lock' THEN pg_blocking_pids(a.pid) END AS blocked_by,
    a.leader_pid
FROM pg_stat_activity a
WHERE a.pid <> pg_backend_pid() AND a.datname = current_database()
  AND a.application_name NOT LIKE %(own)s
  AND (a.state IS DISTINCT FROM 'idle' OR a.wait_event_type = 'Lock')
"""
_CLOCK_SQL = "SELECT clock_timestamp() AS now"


def activity_look(connection: Connection) -> ActivityLook:
    """What every other session on this database does at this moment, ours left out."""
    with translated(), connection.cursor(row_factory=dict_row) as cursor:
        rows = cursor.execute(_ACTIVITY_SQL, {"own": f"{APPLICATION_NAME}%"}).fetchall()
        if not rows:
            clock = cursor.execute(_CLOCK_SQL).fetchone()
            assert clock is not None
            return ActivityLook(clock["now"], ())
    sessions = [
        SessionLook(
            pid=row["pid"],
            user=row["usename"],
            database=row["datname"],
            application=row["application_name"],
            state=row["state"],
            sql=row["query"],
            wait_kind=row["wait_event_type"],
            wait_event=row["wait_event"],
            began=row["xact_start"],
            statement_began=row["query_start"],
            state_since=row["state_change"],
            # A lock held by a prepared transaction has the process number 0.
            blocked_by=tuple(pid for pid in row["blocked_by"] or () if pid),
            leader=row["leader_pid"],
        )
        for row in rows
    ]
    return ActivityLook(rows[0]["now"], sessions)


_TRIALS_SQL = """
SELECT DISTINCT application_name FROM pg_stat_activity
WHERE datname = current_database() AND application_name ~ %s AND application_name <> %s
"""


def trials_at_work(connection: Connection, mark: str) -> tuple[str, ...]:
    """The trials that have sessions on this database, but for the one of this mark."""
    ours = f"{APPLICATION_NAME} {mark}"
    with translated():
        rows = connection.execute(_TRIALS_SQL, (f"^{APPLICATION_NAME} [ty][0-9]+@", ours))
        return tuple(str(name).removeprefix(APPLICATION_NAME).strip() for (name,) in rows)
