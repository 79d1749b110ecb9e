"""Making changes on a copy: indexes with statistics of their own, and how long that takes."""

from __future__ import annotations

import time

import apsw

from humble_ledger.engines.contract import IndexBuild, NewIndex
from humble_ledger.engines.sqlite.one_statement import execute
from humble_ledger.engines.sqlite.samples import quoted


def built(connection: apsw.Connection, index: NewIndex) -> IndexBuild:
    """Build an index, and gather how often its keys repeat: a new one has no statistics."""
    begun = time.perf_counter()
    execute(connection, index.create_sql).fetchall()
    took = (time.perf_counter() - begun) * 1000
    connection.execute(f"ANALYZE {quoted(index.name)}").fetchall()
    return IndexBuild(index.name, took, size_of(connection, index.name))


def size_of(connection: apsw.Connection, name: str) -> int:
    """The bytes of a table's or an index's pages."""
    row = connection.execute(
        "SELECT sum(pgsize) FROM dbstat WHERE name = ? AND aggregate = TRUE", (name,)
    ).fetchone()
    return int(row[0] or 0) if row else 0


def dropped(connection: apsw.Connection, name: str) -> None:
    """Remove an index; what rests on a constraint cannot be."""
    connection.execute(f"DROP INDEX {quoted(name)}").fetchall()
