"""What ANALYZE left in the file: rows of tables and indexes, and how often values repeat."""

from __future__ import annotations

from dataclasses import dataclass

import apsw


@dataclass(frozen=True, slots=True)
class IndexStatistics:
    """A row of ``sqlite_stat1``: rows, and the mean rows for one value of each first keys."""

    rows: float
    per_prefix: tuple[float, ...]


@dataclass(frozen=True, slots=True)
class Statistics:
    """All that was gathered; ``rows`` by table, ``indexes`` by (table, index) in small letters.

    ``written`` are the rows of the statistics tables as they are, to be carried over.
    """

    rows: dict[str, float]
    indexes: dict[tuple[str, str], IndexStatistics]
    written: dict[str, list[tuple[object, ...]]]

    @property
    def gathered(self) -> bool:
        """Whether ANALYZE was ever run."""
        return bool(self.written)


_TABLES = {"sqlite_stat1": 3, "sqlite_stat4": 6}


def read_statistics(connection: apsw.Connection) -> Statistics:
    """What is in ``sqlite_stat1`` and ``sqlite_stat4``; empty when ANALYZE was never run."""
    there = {
        str(name)
        for (name,) in connection.execute(
            "SELECT name FROM sqlite_schema WHERE name IN ('sqlite_stat1', 'sqlite_stat4')"
        )
    }
    written = {}
    for name in _TABLES:
        if name in there:
            # Only these two names are ever put into the text.
            written[name] = connection.execute(f"SELECT * FROM {name}").fetchall()  # noqa: S608
    rows: dict[str, float] = {}
    indexes: dict[tuple[str, str], IndexStatistics] = {}
    for table, index, text, *_ in written.get("sqlite_stat1", ()):
        numbers = _numbers(str(text or ""))
        if not numbers or table is None:
            continue
        key = str(table).lower()
        rows[key] = max(rows.get(key, 0.0), numbers[0])
        if index is not None:
            indexes[key, str(index).lower()] = IndexStatistics(numbers[0], tuple(numbers[1:]))
    return Statistics(rows, indexes, written)


def _numbers(text: str) -> list[float]:
    found = []
    for word in text.split():
        if not word.isdigit():
            break  # behind the numbers stand words such as "unordered"
        found.append(float(word))
    return found
