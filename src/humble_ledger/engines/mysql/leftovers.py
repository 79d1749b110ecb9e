"""What a broken-off trial left on the server."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.engines.contract import Leftovers, Limits
from humble_ledger.engines.mysql.activity import sessions_of
from humble_ledger.engines.mysql.building import dropped, tables_with
from humble_ledger.engines.mysql.connection import Connection, connect
from humble_ledger.engines.mysql.gathering import known_columns, let_go, named
from humble_ledger.errors import HumbleError


def leftovers(url: str, indexes: Sequence[tuple[str, str]], mark: str) -> Leftovers:
    """Those of the indexes that are there, and of the statistics, and sessions of the mark."""
    connection = connect(url, Limits())
    try:
        gathered = tuple(name for _, name in indexes if _there(connection, name))
        there = tuple(
            (schema, name)
            for schema, name in indexes
            if mark and mark.partition("@")[2] in name and tables_with(connection, schema, name)
        )
        return Leftovers(there, sessions_of(connection, mark), statistics=gathered)
    finally:
        connection.close()


def remove_leftovers(url: str, left: Leftovers) -> None:
    """End the sessions, drop the indexes, and let go of the statistics."""
    connection = connect(url, Limits(), read_only=False)
    try:
        for pid in left.processes:
            try:
                connection.do(f"KILL {pid}")
            except HumbleError:
                continue  # it has ended by itself
        for schema, name in left.indexes:
            dropped(connection, schema, name)
        for text in left.statistics:
            gathered = named(text, mariadb=connection.member.mariadb)
            if gathered is not None:
                let_go(connection, gathered)
    finally:
        connection.close()


def _there(connection: Connection, name: str) -> bool:
    """Whether that is what statistics of a column are called, and there are some."""
    gathered = named(name, mariadb=connection.member.mariadb)
    if gathered is None:
        return False
    known = known_columns(connection, gathered.table)
    return any(column.lower() in known for column in gathered.columns)
