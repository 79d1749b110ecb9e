"""What a broken-off trial left on the server."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.engines.contract import Leftovers, Limits
from humble_ledger.engines.mysql.activity import sessions_of
from humble_ledger.engines.mysql.building import dropped, tables_with
from humble_ledger.engines.mysql.connection import connect
from humble_ledger.errors import HumbleError


def leftovers(url: str, indexes: Sequence[tuple[str, str]], mark: str) -> Leftovers:
    """Those of the indexes that are there, and sessions that carry the mark."""
    connection = connect(url, Limits())
    try:
        there = tuple(
            (schema, name)
            for schema, name in indexes
            if mark and mark.partition("@")[2] in name and tables_with(connection, schema, name)
        )
        return Leftovers(there, sessions_of(connection, mark))
    finally:
        connection.close()


def remove_leftovers(url: str, left: Leftovers) -> None:
    """End the sessions, and drop the indexes."""
    connection = connect(url, Limits(), read_only=False)
    try:
        for pid in left.processes:
            try:
                connection.do(f"KILL {pid}")
            except HumbleError:
                continue  # it has ended by itself
        for schema, name in left.indexes:
            dropped(connection, schema, name)
    finally:
        connection.close()
