"""Sizes and statistics of the target written into the copy, and made to count there.

The storage engine reads its statistics when it opens a table for the first time, or when one gets
another name: measured on MariaDB 10.11, where neither FLUSH TABLES nor ALTER TABLE has it read
them again. So a table is renamed and gets its name back.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.engines.mysql.naming import quoted
from humble_ledger.errors import HumbleError

_MEANWHILE = "humble_meanwhile"
_BY_TABLE = "database_name = %s AND (table_name = %s OR table_name LIKE %s)"
_OF_INDEXES = "innodb_index_stats"
_SIZES = ("innodb_table_stats", _OF_INDEXES)
# Of MariaDB's own, which rest on values: by column, by index, and of the table.
_OWN = ("table_stats", "column_stats", "index_stats")


Rows = Sequence[tuple[Any, ...]]


@dataclass(frozen=True, slots=True)
class Carried:
    """What a target's statistics say of one table: rows of each of its statistics tables."""

    database: str
    table: str
    sizes: Mapping[str, Rows]
    own: Mapping[str, Rows]

    @staticmethod
    def of(target: Connection, database: str, table: str) -> Carried:
        """Read them.

        Raises:
            HumbleError: those of the storage engine cannot be read.
        """
        pattern = (database, table, _parts(table))
        sizes = {
            name: target.asked(f"SELECT * FROM mysql.{name} WHERE {_BY_TABLE}", *pattern)
            for name in _SIZES
        }
        own: dict[str, Rows] = {}
        for name in _OWN if target.member.mariadb else ():
            with suppress(HumbleError):  # not everybody may see them
                own[name] = target.asked(
                    f"SELECT * FROM mysql.{name} WHERE db_name = %s AND table_name = %s",
                    database,
                    table,
                )
        return Carried(database, table, sizes, own)

    def write(self, copy: Connection, supposed: Sequence[str] = ()) -> None:
        """Put them in place of those that the copy has, but for those of supposed indexes.

        Whenever an index is built, hidden or dropped the storage engine looks at the copy's own
        rows anew, and forgets what it was told.
        """
        pattern = (self.database, self.table, _parts(self.table))
        for name, rows in self.sizes.items():
            kept = ""
            if name == _OF_INDEXES and supposed:
                kept = f" AND index_name NOT IN ({', '.join(['%s'] * len(supposed))})"
            values = (*pattern, *supposed) if kept else pattern
            copy.asked(f"DELETE FROM mysql.{name} WHERE {_BY_TABLE}{kept}", *values)
            _insert(copy, name, rows)
        for name, rows in self.own.items():
            copy.asked(
                f"DELETE FROM mysql.{name} WHERE db_name = %s AND table_name = %s",
                self.database,
                self.table,
            )
            _insert(copy, name, rows)
        read_again(copy, self.database, self.table)


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


def _insert(copy: Connection, name: str, rows: Rows) -> None:
    if rows:
        marks = ", ".join(["%s"] * len(rows[0]))
        for row in rows:
            copy.asked(f"INSERT INTO mysql.{name} VALUES ({marks})", *row)


def _parts(table: str) -> str:
    """What the names of a table's partitions look like."""
    return table.replace("\\", "\\\\").replace("_", "\\_").replace("%", "\\%") + "#%"
