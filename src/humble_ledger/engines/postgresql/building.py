"""Making a trial's changes on one connection: indexes, and whatever else was asked for."""

from __future__ import annotations

import time

from psycopg import sql

from humble_ledger.engines.contract import Change, IndexBuild, NewIndex
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.transactions import refuse_to_leave

BUILD_TIMEOUT_MS = 10 * 60_000

_BUILT_SQL = """
SELECT coalesce((SELECT pg_catalog.sum(pg_catalog.pg_relation_size(p.relid))
                   FROM pg_catalog.pg_partition_tree(i.indexrelid) p),
                pg_catalog.pg_relation_size(i.indexrelid)),
    i.indcheckxmin, i.indexprs IS NOT NULL, i.indrelid::regclass::text,
    (SELECT pg_catalog.array_agg(k.relname::text) FROM pg_catalog.pg_partition_tree(i.indexrelid) p
      JOIN pg_catalog.pg_class k ON k.oid OPERATOR(pg_catalog.=) p.relid::pg_catalog.oid
     WHERE p.level OPERATOR(pg_catalog.>) 0)
FROM pg_catalog.pg_index i JOIN pg_catalog.pg_class c ON c.oid = i.indexrelid
WHERE c.relname = %s
ORDER BY i.indexrelid DESC LIMIT 1
"""


def make(connection: Connection, change: Change) -> list[IndexBuild]:
    """Make a change inside the transaction that is open; what each part took.

    Raises:
        LockNotGranted: a writer holds the table.
        StatementRejected: the server refuses.
    """
    built = [build(connection, index) for index in change.indexes]
    statements = [*(hidden_sql(*place) for place in change.hidden), *change.others]
    return built + [_run(connection, statement) for statement in statements]


def hidden_sql(schema: str, name: str) -> str:
    """The statement that hides an index from the transaction it is run in.

    The planner leaves out indexes that are not valid. Only the catalogue's row is locked:
    readers and writers of the table do not wait, and ROLLBACK undoes it.
    """
    index = sql.Identifier(schema, name).as_string(None)
    where = sql.SQL("indexrelid = {}::regclass::oid").format(sql.Literal(index))
    return f"UPDATE pg_catalog.pg_index SET indisvalid = false WHERE {where.as_string(None)}"  # noqa: S608


def build(connection: Connection, index: NewIndex, *, online: bool = False) -> IndexBuild:
    """Build one index: in the open transaction, or online outside of any."""
    statement = index.create_online_sql if online else index.create_sql
    with translated(statement):
        start = time.perf_counter()
        connection.execute(statement.encode())
        took = (time.perf_counter() - start) * 1000.0
        row = connection.execute(_BUILT_SQL, (index.name,)).fetchone()
        assert row is not None
        if row[2]:
            # The planner knows nothing of an expression until it was analyzed. Inside a
            # transaction what is gathered here is rolled back with the index.
            connection.execute(f"ANALYZE {row[3]}".encode())  # the server quoted the name
    unusable = (
        "rows of the table changed while older transactions could still see them, and the "
        "server ignores a new index until those have ended"
        if row[1] and not online
        else ""
    )
    return IndexBuild(index.name, took, int(row[0] or 0), unusable, tuple(row[4] or ()))


def _run(connection: Connection, statement: str) -> IndexBuild:
    """A change that is no index: it takes its time and no room that could be told."""
    with translated(statement):
        refuse_to_leave(connection, statement)
        start = time.perf_counter()
        connection.execute(statement.encode())
        return IndexBuild("", (time.perf_counter() - start) * 1000.0, 0)
