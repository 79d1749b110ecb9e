"""Building and dropping the indexes of a trial."""

from __future__ import annotations

import re
import time

from humble_ledger.engines.contract import Change, IndexBuild, NewIndex
from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.engines.mysql.costs import PAGE_BYTES
from humble_ledger.engines.mysql.gathering import ColumnStatistics, statistics_in
from humble_ledger.engines.mysql.naming import quoted
from humble_ledger.errors import HumbleError, RefusedForSafety

# One setting of a session, and nothing behind it.
_SETTING = re.compile(r"SET SESSION ([a-z_]\w*) = (?:'(?:[^'\\]|'')*'|[\w.+-]+)", re.IGNORECASE)
_NEVER_SET = frozenset(
    """tx_read_only transaction_read_only read_only super_read_only autocommit sql_log_bin
    sql_log_off foreign_key_checks unique_checks sql_mode init_connect local_infile secure_file_priv
    max_statement_time max_execution_time lock_wait_timeout innodb_lock_wait_timeout
    default_storage_engine""".split()
)


def settings_of(change: Change, *, lasting: bool = False) -> tuple[str, ...]:
    """The settings among a change's statements, each made sure of.

    With ``lasting`` it may have statistics of columns besides, which every session gets.

    Raises:
        RefusedForSafety: it has statements that could not be undone.
    """
    found = []
    for sql in change.others:
        said = _SETTING.fullmatch(sql.strip().rstrip(";"))
        if said is not None:
            require_harmless_setting(said[1])
            found.append(sql)
        elif not lasting or statistics_in(sql) is None:
            raise RefusedForSafety(
                "Of what lasts and is for every session at once, only indexes and statistics of "
                "columns are tried on such a server.",
                "Try it on a copy of your own, by hand, between two captures.",
            )
    return tuple(found)


def statistics_of(change: Change) -> tuple[ColumnStatistics, ...]:
    """The statistics that a change gathers."""
    found = (statistics_in(sql) for sql in change.others)
    return tuple(each for each in found if each is not None)


def require_harmless_setting(name: str) -> None:
    """Make sure that a setting changes how a statement is run, and not what it may do.

    Raises:
        RefusedForSafety: it would let a session write, or hide from others what it writes.
    """
    if name.lower() in _NEVER_SET:
        raise RefusedForSafety(
            f"{name} is not set: sessions of ours read only, and what is written is taken back.",
            "Settings of the optimizer and of memory can be tried.",
        )


def built(connection: Connection, index: NewIndex) -> IndexBuild:
    """Build an index while others write, and wait until it is there."""
    begun = time.perf_counter()
    connection.do(index.create_online_sql)
    took = (time.perf_counter() - begun) * 1000
    table = index.table or next(iter(tables_with(connection, index.schema, index.name)), "")
    return IndexBuild(index.name, took, size_bytes(connection, table, index.name))


def size_bytes(connection: Connection, table: str, name: str) -> int:
    """What an index takes, by the storage engine's statistics; 0 where they cannot be read."""
    try:
        pages = connection.one(
            "SELECT SUM(stat_value) FROM mysql.innodb_index_stats "
            "WHERE database_name = DATABASE() AND (table_name = %s OR table_name LIKE %s) "
            "AND index_name = %s AND stat_name = 'size'",
            table,
            f"{table}#%",
            name,
        )
    except HumbleError:
        return 0
    return int(pages or 0) * PAGE_BYTES


def tables_with(connection: Connection, schema: str, name: str) -> list[str]:
    """The tables that have an index of this name."""
    rows = connection.asked(
        "SELECT DISTINCT TABLE_NAME FROM information_schema.STATISTICS "
        "WHERE TABLE_SCHEMA = COALESCE(NULLIF(%s, ''), DATABASE()) AND INDEX_NAME = %s",
        schema,
        name,
    )
    return [str(row[0]) for row in rows]


def dropped(connection: Connection, schema: str, name: str, table: str = "") -> None:
    """Drop an index, of its table or of the only one that has it; nothing where it is gone."""
    there = tables_with(connection, schema, name)
    for each in there:
        if table in ("", each):
            where = f"{quoted(schema)}.{quoted(each)}" if schema else quoted(each)
            connection.do(f"DROP INDEX {quoted(name)} ON {where}")
