"""What a plan costs. SQLite shows no costs, so these formulas are our own.

The unit is the time of looking at one row of a table that is read from end to end, some 25 ns
where they were measured (a million rows of 100 bytes, SQLite 3.54): 38 ms to read 1,000,000 rows on
25,000 pages, 64 ms to fetch 50,000 rows by an index (1.3 µs each, most from a page not in the
cache of 2,000 KiB), 1.4 ms for as many entries of an index that holds all, 16 ms for 100,000
lookups by rowid in cached pages, about 400 ns for each of a million rows to be sorted.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from humble_ledger.core.costs.model import IndexShape, KeySample, ScanCost, Search
from humble_ledger.core.costs.ordered import OrderedSizes, pages_above
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.schema.facts import ColumnFacts, TableFacts

ROW = 1.0
PAGE = 20.0  # the next one in the file
PAGE_ANYWHERE = 45.0
OPERATOR = 0.5  # testing one condition
CALL = 3.0  # of a function
PARSING = 25.0  # of a JSON text, which most of its functions do each time
ENTRY = 1.1  # of an index
DESCENT = 3.0  # through one page from the root downwards
LOOKUP = 6.0  # finding a row by its number, pages apart
SORT = 0.6  # for each row and each doubling of rows
PASS = 0.4  # handing a row on
GIVEN = 10.0  # handing a row to the program that asked
CACHE_BYTES = 2_000 * 1024  # what a connection has unless it says otherwise
_PAGE_HEADER = 8
_HEADER = 2  # of an entry, with one more for each value
_POINTER = 2  # for each entry of a page
_LENGTH = 1  # of an entry: in front of it
_CHILD = 4  # the page below an entry


@dataclass(frozen=True, slots=True)
class Resources:
    """What a step may use; there are no such settings."""

    memory_setting: str = "cache_size"
    hash_memory_setting: str = "cache_size"
    workers_setting: str = ""
    most_workers_setting: str = ""
    compile_setting: str = ""
    compile_above_setting: str = ""
    most_workers: float | None = None
    compile_above_cost: float | None = None

    def memory_bytes(self, plan: Plan) -> float:
        """A sort keeps so much in memory before it writes temporary files: 250 pages at least."""
        return float(CACHE_BYTES)

    def hash_memory_bytes(self, plan: Plan) -> float:
        """There are no hashes."""
        return float(CACHE_BYTES)


@dataclass(frozen=True, slots=True)
class Sizes(OrderedSizes):
    """How large an index is when it is freshly built."""

    page_bytes: int = 4096

    def in_order(
        self,
        table: TableFacts,
        columns: Sequence[ColumnFacts],
        included: Sequence[ColumnFacts] = (),
        entries: float | None = None,
        sample: KeySample | None = None,
    ) -> IndexShape:
        """A b-tree, whose entries have their values and the row's number (file format, 1.6).

        It is filled in order when it is built, so that pages are full.
        """
        rows = table.rows if entries is None else entries
        held = [*columns, *included]
        width = sum(each.mean_width_bytes or 8 for each in held) + len(held) + _HEADER
        own = sample.entry_bytes if sample is not None and sample.rows_kept else width
        each = own + _number_bytes(table.rows) + _LENGTH + _POINTER
        room = table.page_bytes - _PAGE_HEADER
        leaves = max(1, math.ceil(rows * each / room))
        above, levels = pages_above(leaves, each + _CHILD, room)
        return IndexShape(leaves + above, levels, rows)


def _number_bytes(rows: float) -> int:
    """How many bytes the number of a row takes, if they are numbered from 1."""
    return next((size for size, most in ((1, 2**7), (2, 2**15), (3, 2**23)) if rows < most), 4)


class SqliteCosts:
    """See `core.costs.contract.CostModel`."""

    skips_leading_columns = True
    resources = Resources()
    sizes = Sizes()

    def sort(self, rows: float, width_bytes: float) -> float:
        """A temporary b-tree, or a sorter, of so many rows."""
        return SORT * rows * math.log2(max(2.0, rows)) + PASS * rows

    def per_row(self, rows: float, operators: float = 0) -> float:
        """Handing rows on."""
        return rows * (PASS + OPERATOR * operators)

    def full_scan(self, table: TableFacts, operators: float = 0) -> float:
        """All pages in their order, all rows."""
        return table.pages * PAGE + table.rows * (ROW + OPERATOR * operators)

    def correlation(self, leading: ColumnFacts | None, keys: int) -> float:
        """As the sample shows it; a second key shuffles rows of equal first ones."""
        if leading is None or leading.correlation is None:
            return 0.0
        return leading.correlation * (1.0 if keys == 1 else 0.75)

    def walk(self, pages: float, entries: float, levels: float, searches: float = 1.0) -> float:
        """Down to the first entry, and along so many of them on so many pages."""
        return searches * (levels + 1) * DESCENT + pages * PAGE + entries * ENTRY

    def lookups(self, table: TableFacts, rows: float, correlation: float, loops: float) -> float:
        """Fetching rows by their numbers, each from a page that may be in the cache by now.

        ``loops`` times so many are fetched in all: what is small enough stays in the cache.
        """
        cached = CACHE_BYTES / max(1, table.page_bytes)
        pages = max(1.0, float(table.pages))
        missing = max(0.0, 1.0 - cached / pages) if pages > cached else 0.0
        first = min(pages, rows * loops) / max(1.0, rows * loops)  # each page is read once anyway
        anywhere = max(missing, first) * PAGE_ANYWHERE
        in_order = PAGE * min(1.0, pages / max(1.0, table.rows))
        part = correlation * correlation
        return rows * (LOOKUP + part * in_order + (1.0 - part) * anywhere)

    def index_scan(
        self,
        table: TableFacts,
        shape: IndexShape,
        search: Search,
        correlation: float,
        covering: bool = False,
    ) -> ScanCost:
        """One search of a b-tree and the rows it leads to."""
        entries = search.bound_share * shape.entries
        rows = search.matched_share * shape.entries
        pages = max(0.0, search.bound_share * shape.pages - 1.0)
        total = self.walk(pages, entries, shape.levels, search.searches)
        total += entries * OPERATOR * max(0, search.quals - 1)
        if not covering:
            total += self.lookups(table, rows, correlation, search.loops)
        total += rows * OPERATOR * search.filters
        words = "index only scan" if covering else "index scan"
        return ScanCost((shape.levels + 1) * DESCENT, total, words)

    def bitmap_scan(self, table: TableFacts, shape: IndexShape, search: Search) -> ScanCost:
        """There are no bitmaps."""
        return ScanCost(0.0, math.inf, "bitmap scan")

    def block_range_scan(
        self, table: TableFacts, shape: IndexShape, search: Search, correlation: float
    ) -> ScanCost:
        """There are no such indexes."""
        return ScanCost(0.0, math.inf, "block range scan")

    def inverted_scan(
        self, table: TableFacts, shape: IndexShape, search: Search, terms: int
    ) -> ScanCost:
        """There are no such indexes on tables."""
        return ScanCost(0.0, math.inf, "inverted scan")
