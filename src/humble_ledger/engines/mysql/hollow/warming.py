"""As much of a copy's table in memory as of the target's.

MySQL asks its storage engine how much of an index is in memory, and prices a page from there at a
quarter of one from the disk. MariaDB does not ask.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.engines.mysql.naming import quoted
from humble_ledger.errors import HumbleError

_NEARLY_ALL = 0.9
_CACHED = """
SELECT i.NAME, SUM(c.N_CACHED_PAGES), MAX(s.stat_value)
FROM information_schema.INNODB_TABLES t
JOIN information_schema.INNODB_INDEXES i ON i.TABLE_ID = t.TABLE_ID
JOIN mysql.innodb_index_stats s ON s.database_name = %s AND s.table_name = %s
  AND s.index_name = i.NAME AND s.stat_name = 'size'
LEFT JOIN information_schema.INNODB_CACHED_INDEXES c ON c.INDEX_ID = i.INDEX_ID
WHERE t.NAME = %s GROUP BY i.NAME
"""


def shares_in_memory(target: Connection, database: str, table: str) -> Mapping[str, float]:
    """Which part of each index of a table is in the target's memory; none where it is not told."""
    try:
        rows = target.asked(_CACHED, database, table, f"{database}/{table}")
    except HumbleError:
        return {}  # it takes a right to see all processes
    return {str(n): min(1.0, float(c or 0) / max(1.0, float(size))) for n, c, size in rows}


@dataclass(slots=True)
class Warmth:
    """Which part of each table's indexes should be in the copy's memory.

    What is built there pushes out what was read before.
    """

    copy: Connection
    database: str
    _wanted: dict[str, tuple[float, Mapping[str, float]]] = field(default_factory=dict)
    _built_since: set[str] = field(default_factory=set)

    def like(self, target: Connection, table: str, rows: float) -> None:
        """Read as much of a table's indexes as the target has; the copy's has so many rows."""
        if not target.member.mariadb:
            self._wanted[table] = rows, shares_in_memory(target, self.database, table)
            self._built_since.add(table)

    def built(self) -> None:
        """Take note that something was built."""
        self._built_since |= self._wanted.keys()

    def restore(self) -> None:
        """Read again what was pushed out since."""
        for table in self._built_since:
            rows, wanted = self._wanted[table]
            there = shares_in_memory(self.copy, self.database, table)
            for index, share in wanted.items():
                if rows * share >= 1.0 and there.get(index, 0.0) < share * _NEARLY_ALL:
                    self._read(table, index, round(rows * share))
        self._built_since.clear()

    def _read(self, table: str, index: str, rows: int) -> None:
        place = f"{quoted(self.database)}.{quoted(table)}"
        self.copy.rows(
            f"SELECT COUNT(*) FROM (SELECT 1 FROM {place} FORCE INDEX ({quoted(index)}) "  # noqa: S608 - names in quotes
            f"LIMIT {rows}) read_once"
        )
