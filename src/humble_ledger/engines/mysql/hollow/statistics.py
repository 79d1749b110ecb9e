"""Sizes and statistics of the target written into the copy, and made to count there.

The storage engine reads its statistics when it opens a table for the first time, or when one gets
another name: measured on MariaDB 10.11, where neither FLUSH TABLES nor ALTER TABLE has it read
them again. So a table is renamed and gets its name back.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.engines.mysql.naming import quoted
from humble_ledger.errors import HumbleError

_MEANWHILE = "humble_meanwhile"
_BY_TABLE = "database_name = %s AND (table_name = %s OR table_name LIKE %s)"
# Of MariaDB's own, which rest on values: by column, by index, and of the table.
_OWN = ("table_stats", "column_stats", "index_stats")


def carry(target: Connection, copy: Connection, database: str, table: str) -> None:
    """The target's statistics of a table, in place of those that the copy has.

    Raises:
        HumbleError: they cannot be read, or cannot be written.
    """
    pattern = (database, table, _parts(table))
    for name in ("innodb_table_stats", "innodb_index_stats"):
        found = target.asked(f"SELECT * FROM mysql.{name} WHERE {_BY_TABLE}", *pattern)
        copy.asked(f"DELETE FROM mysql.{name} WHERE {_BY_TABLE}", *pattern)
        _insert(copy, name, found)
    if target.member.mariadb:
        for name in _OWN:
            try:
                found = target.asked(
                    f"SELECT * FROM mysql.{name} WHERE db_name = %s AND table_name = %s",
                    database,
                    table,
                )
            except HumbleError:
                continue
            copy.asked(
                f"DELETE FROM mysql.{name} WHERE db_name = %s AND table_name = %s", database, table
            )
            _insert(copy, name, found)
    read_again(copy, database, table)


def distinct_keys(
    copy: Connection, database: str, table: str, index: str, keys: Sequence[float]
) -> None:
    """How many different keys an index has by its first one, first two and so on."""
    for number, count in enumerate(keys, 1):
        copy.asked(
            f"UPDATE mysql.innodb_index_stats SET stat_value = %s WHERE {_BY_TABLE} "
            "AND index_name = %s AND stat_name = %s",
            max(1, round(count)),
            database,
            table,
            _parts(table),
            index,
            f"n_diff_pfx{number:02}",
        )


def read_again(copy: Connection, database: str, table: str) -> None:
    """Have the storage engine read what is written of a table."""
    place, other = f"{quoted(database)}.{quoted(table)}", f"{quoted(database)}.{_MEANWHILE}"
    copy.do(f"RENAME TABLE {place} TO {other}")
    copy.do(f"RENAME TABLE {other} TO {place}")


def _insert(copy: Connection, name: str, rows: Sequence[tuple[Any, ...]]) -> None:
    if rows:
        marks = ", ".join(["%s"] * len(rows[0]))
        for row in rows:
            copy.asked(f"INSERT INTO mysql.{name} VALUES ({marks})", *row)


def _parts(table: str) -> str:
    """What the names of a table's partitions look like."""
    return table.replace("\\", "\\\\").replace("_", "\\_").replace("%", "\\%") + "#%"
