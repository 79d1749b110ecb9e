"""What reading costs, by the formulas of both members.

MariaDB up to 10.11, measured on 10.11 with R rows read of N in a table of P pages: a full scan
P + N/5; a search for one value of the first key 1.2 R + 0.17, also with a range of the next one;
a range of the first key 1.4 R + 0.22; of an index that holds all that is wanted 0.2 R and 0.4 R.
MySQL from 8.0 on, by its documented constants: 0.1 for each row that is looked at, 0.25 for a page
that is cached (1.0 for one that is not), and each row that a secondary index leads to is a page.
Neither counts what a sort takes in the plan's cost; that figure is ours, in the same unit.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from humble_ledger.core.costs.model import IndexShape, KeySample, ScanCost, Search
from humble_ledger.core.costs.ordered import OrderedSizes, pages_above
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.schema.facts import ClusteredFacts, ColumnFacts, ServerFacts, TableFacts

PAGE_BYTES = 16_384
EQUAL_START, RANGE_START = 0.17, 0.22  # measured on MariaDB 10.11
ROW = 0.2  # MariaDB: looking at a row
ROW_MYSQL = 0.1
CACHED_PAGE = 0.25
SORT = 0.02  # for each row and each doubling of rows: about a tenth of reading it
SORT_START = 0.1
SORTED_FIRST = 0.999  # of a sort's cost comes before its first row
_PAGE_HEADER = 128  # header, trailer and the two records at its ends
_ENTRY_HEADER = 5
_SLOT = 1.0 / 3.0  # of the page's directory, for each entry
_SINGLE_PAGES, _EXTENT = 32, 64  # a segment takes single pages first, then so many at once
_SPARE = 8  # it takes another extent when less than so large a part of it is free
_ROW_NUMBER = 6  # of a table without a primary key
_LENGTH = 1  # of a value of varying length
_CHILD = 4


def sort_cost(rows: float) -> float:
    """Sorting so many rows."""
    return SORT_START + SORT * rows * math.log2(max(2.0, rows))


@dataclass(frozen=True, slots=True)
class Resources:
    """What a server grants to a step."""

    sort_bytes: float
    join_bytes: float
    memory_setting: str = "sort_buffer_size"
    hash_memory_setting: str = "join_buffer_size"
    workers_setting: str = ""
    most_workers_setting: str = ""
    compile_setting: str = ""
    compile_above_setting: str = ""
    most_workers: float | None = None
    compile_above_cost: float | None = None

    def memory_bytes(self, plan: Plan) -> float:
        """What a sort may use."""
        return self.sort_bytes

    def hash_memory_bytes(self, plan: Plan) -> float:
        """What a join buffer may use."""
        return self.join_bytes


def key_columns_of_rows(table: TableFacts) -> tuple[str, ...]:
    """The columns that ride in each secondary index: those of the primary key."""
    return table.storage.by if isinstance(table.storage, ClusteredFacts) else ()


@dataclass(frozen=True, slots=True)
class Sizes(OrderedSizes):
    """How large an index is when it is freshly built (InnoDB)."""

    def in_order(
        self,
        table: TableFacts,
        columns: Sequence[ColumnFacts],
        included: Sequence[ColumnFacts] = (),
        entries: float | None = None,
        sample: KeySample | None = None,
    ) -> IndexShape:
        """A secondary index: its keys, and those of the primary key that are not among them."""
        rows = table.rows if entries is None else entries
        held = {column.name: column for column in (*columns, *included)}
        riding = [
            table.columns[name]
            for name in key_columns_of_rows(table)
            if name in table.columns and name not in held
        ]
        if sample is not None and sample.rows_kept:
            # The bytes of the values themselves, and of expressions, which no statistics tell.
            width = sample.entry_bytes
            width += sum(_overhead(each) for each in held.values()) or _LENGTH
        else:
            width = sum(_width(each) for each in held.values()) + _ENTRY_HEADER
        width += sum(_width(each) for each in riding)
        if not key_columns_of_rows(table):
            width += _ROW_NUMBER
        width += _SLOT
        room = PAGE_BYTES - _PAGE_HEADER
        leaves = max(1, math.ceil(rows * width / room))
        above, levels = pages_above(leaves, width + _CHILD, room)
        return IndexShape(_taken(leaves) + (_taken(above) if above else 0), levels, rows)


def _taken(pages: int) -> int:
    """Pages that a segment takes to hold so many (InnoDB, documented in its file space manager).

    Measured on MariaDB 10.11: 61 pages took 97 with the root, 271 took 355, 453 took 545.
    """
    if pages <= _SINGLE_PAGES:
        return pages
    taken = _SINGLE_PAGES
    while taken < pages or taken - pages < taken / _SPARE:
        taken += _EXTENT
    return taken


def _width(column: ColumnFacts) -> float:
    width = float(column.mean_width_bytes or abs(column.length_bytes) or 8)
    return width + _overhead(column)


def _overhead(column: ColumnFacts) -> float:
    """What a value takes beside its bytes: its length where that varies, a bit where NULL may be"""
    return (0 if column.length_bytes > 0 else _LENGTH) + (0.0 if column.not_null else 0.125)


@dataclass(frozen=True, slots=True)
class MysqlCosts:
    """See `core.costs.contract.CostModel`."""

    mariadb: bool
    resources: Resources
    sizes: Sizes = Sizes()
    skips_leading_columns: bool = False

    @staticmethod
    def of(server: ServerFacts) -> MysqlCosts:
        """The formulas of a server, with its settings where they are known."""
        mariadb = server.setting("mariadb", 1.0 if server.engine == "mariadb" else 0.0) > 0
        return MysqlCosts(
            mariadb,
            Resources(
                server.setting("sort_buffer_bytes", 2.0 * 1024**2 if mariadb else 256.0 * 1024),
                server.setting("join_buffer_bytes", 256.0 * 1024),
            ),
        )

    def sort(self, rows: float, width_bytes: float) -> float:
        """Sorting rows: ours, as neither member counts it."""
        return sort_cost(rows)

    def per_row(self, rows: float, operators: float = 0) -> float:
        """Handing rows on costs nothing beside looking at them."""
        return 0.0

    def full_scan(self, table: TableFacts, operators: float = 0) -> float:
        """All pages, all rows."""
        if self.mariadb:
            return table.pages + table.rows * ROW
        return table.pages * CACHED_PAGE + table.rows * ROW_MYSQL

    def correlation(self, leading: ColumnFacts | None, keys: int) -> float:
        """Neither asks how rows lie: each one that an index leads to is a page."""
        return 0.0

    def index_scan(
        self,
        table: TableFacts,
        shape: IndexShape,
        search: Search,
        correlation: float,
        covering: bool = False,
    ) -> ScanCost:
        """The rows of a search of an index, and their lookups in the clustered one."""
        entries = max(1.0, search.bound_share * shape.entries)
        if search.bound_share < 1.0:
            # InnoDB never tells more than half of the table for a part of an index.
            entries = min(entries, max(1.0, table.rows / 2))
        # What the index holds is tested in it, before the row is fetched.
        rows = max(1.0, search.matched_share * shape.entries)
        equal = search.searches == 1 and search.begins_equal
        words = "index only scan" if covering else "index scan"
        if self.mariadb:
            start = EQUAL_START if equal else RANGE_START
            each = ROW if equal else 2 * ROW
            # The server counts a lookup for each entry, also where the rest is tested before.
            total = start * search.searches + each * entries + (0.0 if covering else entries)
            return ScanCost(start, total, words)
        pages = max(1.0, search.bound_share * shape.pages)
        total = entries * ROW_MYSQL + pages * CACHED_PAGE
        if not covering:
            total += (rows if search.quals > 1 else entries) * CACHED_PAGE
        return ScanCost(CACHED_PAGE, total, words)

    def bitmap_scan(self, table: TableFacts, shape: IndexShape, search: Search) -> ScanCost:
        """Nothing is fetched in the order of the table unless it is asked for."""
        return ScanCost(0.0, math.inf, "bitmap scan")

    def block_range_scan(
        self, table: TableFacts, shape: IndexShape, search: Search, correlation: float
    ) -> ScanCost:
        """There are no such indexes."""
        return ScanCost(0.0, math.inf, "block range scan")

    def inverted_scan(
        self, table: TableFacts, shape: IndexShape, search: Search, terms: int
    ) -> ScanCost:
        """Full-text searches are not priced."""
        return ScanCost(0.0, math.inf, "inverted scan")
