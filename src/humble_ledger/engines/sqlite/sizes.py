"""How many rows and pages tables and indexes have, found without reading a large file whole."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import apsw

from humble_ledger.engines.sqlite.asking import row, rows
from humble_ledger.engines.sqlite.reading import limited
from humble_ledger.engines.sqlite.samples import quoted
from humble_ledger.engines.sqlite.schema import Table

COUNTED = 100_000  # rows that are counted one by one
MOST_PAGES = 100_000  # of a file whose pages are all looked at
PATIENCE_MS = 3_000
_PLACES, _AT_EACH = 60, 20
_FILL = 0.75  # of a page, where the pages were not counted


@dataclass(frozen=True, slots=True)
class Sizes:
    """Pages of each table and index by its name; ``counted`` or estimated by mean rows."""

    page_bytes: int
    pages: Mapping[str, int]
    counted: bool


def read_sizes(connection: apsw.Connection) -> Sizes:
    """The pages of everything, where the file is small enough to look at each of them."""
    page_bytes = int(row(connection, "PRAGMA page_size")[0])
    pages = int(row(connection, "PRAGMA page_count")[0])
    if pages > MOST_PAGES:
        return Sizes(page_bytes, {}, False)
    try:
        with limited(connection, PATIENCE_MS):
            found = rows(connection, "SELECT name, pageno FROM dbstat WHERE aggregate = TRUE")
    except (apsw.InterruptError, apsw.SQLError):
        return Sizes(page_bytes, {}, False)
    return Sizes(page_bytes, {str(name): int(count) for name, count in found}, True)


def rows_of(connection: apsw.Connection, table: Table) -> float:
    """About how many rows a table has: counted up to a limit, then by how dense they lie."""
    name = quoted(table.name)
    text = f"SELECT count(*) FROM (SELECT 1 FROM {name} LIMIT {COUNTED + 1})"  # noqa: S608
    (found,) = row(connection, text)
    if found <= COUNTED or not table.by_rowid:
        if found > COUNTED:
            (found,) = row(connection, f"SELECT count(*) FROM {name}")  # noqa: S608
        return float(found)
    low, high = row(connection, f"SELECT min(rowid), max(rowid) FROM {name}")  # noqa: S608
    text = f"SELECT rowid FROM {name} WHERE rowid >= ? ORDER BY rowid LIMIT {_AT_EACH}"  # noqa: S608
    seen = width = 0
    for place in range(_PLACES):
        begin = low + (high - low) * place // _PLACES
        got = rows(connection, text, (begin,))
        if got:
            seen += len(got)
            width += got[-1][0] - begin + 1
    return float(high - low + 1) * min(1.0, seen / max(1, width))


def estimated_pages(count: float, row_bytes: float, page_bytes: int) -> int:
    """Pages for so many rows of a mean length, each with its header and a pointer."""
    return max(1, round(count * (row_bytes + 6) / (page_bytes * _FILL)))
