"""Finding and removing what a broken-off trial left on a target."""

from __future__ import annotations

import time
from collections.abc import Sequence

from psycopg import sql

from humble_ledger.core.trials.marks import marked_ending
from humble_ledger.engines.contract import APPLICATION_NAME, Leftovers, Limits
from humble_ledger.engines.postgresql.connection import Connection, connect
from humble_ledger.engines.postgresql.faults import translated

TIMEOUT_S = 10


# An index of a trial ends in its mark and is a leftover whatever its state. One that a settled
# change was building bears the name it shall keep: finished it is wanted, only a build that was
# broken off is a leftover.
_INDEXES_SQL = """
SELECT n.nspname, c.relname FROM pg_index i
JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE (n.nspname::text, c.relname::text) IN (SELECT * FROM unnest(%s::text[], %s::text[]))
  AND (right(c.relname, length(%s)) = %s OR NOT i.indisvalid)
"""


def find(url: str, indexes: Sequence[tuple[str, str]], mark: str) -> Leftovers:
    """What is there of these indexes (schema, name), and of sessions that carry this mark."""
    connection = connect(url, Limits())
    schemas, names = [schema for schema, _ in indexes], [name for _, name in indexes]
    ending = marked_ending(mark)
    try:
        with translated():
            found = connection.execute(_INDEXES_SQL, (schemas, names, ending, ending)).fetchall()
            processes = connection.execute(
                "SELECT pid FROM pg_stat_activity WHERE application_name = %s "
                "AND datname = current_database() AND pid <> pg_backend_pid()",
                (f"{APPLICATION_NAME} {mark}",),
            ).fetchall()
    finally:
        connection.close()
    return Leftovers(
        tuple((schema, name) for schema, name in found), tuple(pid for (pid,) in processes)
    )


def remove(url: str, left: Leftovers) -> None:
    """End the processes, wait for them, and drop the indexes without blocking writers."""
    connection = connect(url, Limits(), read_only=False)
    try:
        with translated():
            for pid in left.processes:
                connection.execute("SELECT pg_terminate_backend(%s)", (pid,))
            wait_until_gone(connection, left.processes)
            for schema, name in left.indexes:
                connection.execute(
                    sql.SQL("DROP INDEX CONCURRENTLY IF EXISTS {}").format(
                        sql.Identifier(schema, name)
                    )
                )
    finally:
        connection.close()


def wait_until_gone(connection: Connection, processes: Sequence[int]) -> None:
    """Return when these server processes have ended, or after `TIMEOUT_S`."""
    give_up = time.monotonic() + TIMEOUT_S
    while time.monotonic() < give_up:
        alive = connection.execute(
            "SELECT count(*) FROM pg_stat_activity WHERE pid = ANY(%s)", (list(processes),)
        ).fetchone()
        if alive == (0,):
            return
        time.sleep(0.05)
