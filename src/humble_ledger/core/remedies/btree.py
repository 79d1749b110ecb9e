"""PostgreSQL's published cost and size formulas for b-tree indexes.

Sources: `src/backend/optimizer/path/costsize.c` (cost_index, cost_bitmap_heap_scan,
index_pages_fetched) and `src/backend/utils/adt/selfuncs.c` (btcostestimate,
genericcostestimate) of PostgreSQL 18; page layout from `nbtsort.c`. Page fetches follow
Mackert and Lohman, "Index Scans Using a Finite LRU Buffer", ACM TODS 14(3), 1989.

Costs are in the server's units, sizes in pages.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from humble_ledger.core.schema.facts import ColumnFacts, ServerFacts, TableFacts

PAGE_HEADERS_BYTES = 40  # page header and b-tree's own trailer
FILL = 0.9
ITEM_POINTER_BYTES = 4
TUPLE_HEADER_BYTES = 8
ROW_POINTER_BYTES = 6
# Types whose equal values may look different, so that equal keys are not merged.
_NOT_MERGED = ("numeric", "real", "double precision", "jsonb")


@dataclass(frozen=True, slots=True)
class IndexShape:
    """Predicted size of an index: pages, levels above the leaves, entries."""

    pages: int
    levels: int
    entries: float

    def size_bytes(self, page_bytes: int) -> int:
        """The file's size."""
        return self.pages * page_bytes


@dataclass(frozen=True, slots=True)
class ScanCost:
    """The cost of reading rows by one route: before the first row, and of all."""

    startup: float
    total: float
    route: str


@dataclass(frozen=True, slots=True)
class Search:
    """How an index is searched.

    ``bound_share`` is the share of rows within the index range that is walked,
    ``matched_share`` after all conditions on the index, ``quals`` the number of those
    conditions, ``filters`` of the others; ``searches`` counts descents (values of an IN
    list); ``loops`` how often the scan is repeated with another value.
    """

    bound_share: float
    matched_share: float
    quals: int
    filters: int = 0
    searches: int = 1
    loops: float = 1.0


def _aligned(length: float, to: int = 8) -> int:
    return -(-math.ceil(length) // to) * to


def index_shape(
    table: TableFacts, columns: Sequence[ColumnFacts], included: Sequence[ColumnFacts] = ()
) -> IndexShape:
    """The size an index on these columns would have when freshly built."""
    entries = max(table.rows, 1.0)
    usable = (table.page_bytes - PAGE_HEADERS_BYTES) * FILL
    tuple_bytes = _tuple_bytes([*columns, *included])
    groups = _distinct_keys(columns, entries)
    if included or any(c.type_name.startswith(_NOT_MERGED) for c in columns):
        groups = entries
    repeats = entries / groups
    if repeats <= 1.01:
        leaf_bytes = entries * (tuple_bytes + ITEM_POINTER_BYTES)
    else:
        leaf_bytes = groups * _merged_bytes(tuple_bytes, repeats, table.page_bytes)
    leaves = max(1, math.ceil(leaf_bytes / usable))
    fanout = max(2.0, usable / (_pivot_bytes(columns) + ITEM_POINTER_BYTES))
    pages, level_pages, levels = leaves, leaves, 0
    while level_pages > 1:
        level_pages = math.ceil(level_pages / fanout)
        pages, levels = pages + level_pages, levels + 1
    return IndexShape(pages + 1, levels, entries)  # and the meta page


def _merged_bytes(tuple_bytes: int, repeats: float, page_bytes: int) -> float:
    """Bytes of one key's entries when equal keys share a tuple of row pointers."""
    most = max(1, ((page_bytes - PAGE_HEADERS_BYTES) // 10 - tuple_bytes) // ROW_POINTER_BYTES)
    tuples = math.ceil(repeats / most)
    each = repeats / tuples
    if each <= 1.5:
        return repeats * (tuple_bytes + ITEM_POINTER_BYTES)
    return tuples * (_aligned(tuple_bytes + each * ROW_POINTER_BYTES) + ITEM_POINTER_BYTES)


def _tuple_bytes(columns: Sequence[ColumnFacts]) -> int:
    offset = float(TUPLE_HEADER_BYTES)
    for column in columns:
        if column.length_bytes > 0:
            offset = _aligned(offset, column.alignment_bytes) + column.length_bytes
        else:
            offset += column.mean_width_bytes or 16
    return _aligned(offset)


def _pivot_bytes(columns: Sequence[ColumnFacts]) -> int:
    # Keys above the leaves are cut behind the first column that tells neighbours apart.
    return _tuple_bytes(columns[:1]) + (8 if len(columns) > 1 else 0)


def _distinct_keys(columns: Sequence[ColumnFacts], entries: float) -> float:
    product = 1.0
    for column in columns:
        distinct = column.distinct_values(entries)
        product *= max(1.0, distinct if distinct is not None else min(200.0, entries))
    if len(columns) == 1 or product <= 0:
        return max(1.0, min(product, entries))
    # Of so many possible pairs, this many occur when the columns are independent.
    return max(1.0, min(product * -math.expm1(-entries / product), entries))


def pages_fetched(rows: float, pages: float, total_pages: float, cache_pages: float) -> float:
    """Mackert and Lohman: pages read to fetch ``rows`` rows at random through a cache."""
    pages = max(pages, 1.0)
    share = max(1.0, math.ceil(cache_pages * pages / max(1.0, total_pages)))
    spread = 2 * pages * rows / (2 * pages + rows)
    if pages <= share:
        return pages if spread >= pages else math.ceil(spread)
    limit = 2 * pages * share / (2 * pages - share)
    if rows > limit:
        spread = share + (rows - limit) * (pages - share) / pages
    return math.ceil(spread)


@dataclass(frozen=True, slots=True)
class CostModel:
    """The formulas with one server's cost settings."""

    server: ServerFacts

    def _of(self, name: str) -> float:
        return self.server.setting(name, _DEFAULTS[name])

    def sort(self, rows: float, width_bytes: float) -> float:
        """cost_sort for rows that fit into memory, or are merged on disk when they do not."""
        rows = max(rows, 2.0)
        cost = 2 * self._of("cpu_operator_cost") * rows * math.log2(rows)
        bytes_in_all = rows * (width_bytes + 24)
        memory = self._of("work_mem")
        if bytes_in_all > memory:
            pages = math.ceil(bytes_in_all / 8192)
            runs = bytes_in_all / memory
            passes = max(1.0, math.ceil(math.log(runs, 6))) if runs > 6 else 1.0
            each = 0.75 * self._of("seq_page_cost") + 0.25 * self._of("random_page_cost")
            cost += 2 * pages * passes * each
        return cost

    def per_row(self, rows: float, operators: float = 0) -> float:
        """Handling rows, each with some operator calls."""
        return rows * (self._of("cpu_tuple_cost") + operators * self._of("cpu_operator_cost"))

    def index_part(
        self, table: TableFacts, shape: IndexShape, search: Search
    ) -> tuple[float, float]:
        """btcostestimate: (startup, total) of walking the index alone, per loop."""
        operator = self._of("cpu_operator_cost")
        random_page = self._of("random_page_cost")
        searches = max(1, min(search.searches, math.ceil(shape.pages / 3)))
        entries = max(1.0, round(search.bound_share * table.rows / searches))
        entries = min(entries, shape.entries)
        pages = math.ceil(entries * shape.pages / shape.entries) if shape.entries > 1 else 1.0
        scans = searches * search.loops
        if scans > 1:
            fetched = pages_fetched(
                pages * scans, shape.pages, table.pages + shape.pages, self._cache_pages(table)
            )
            io = fetched * random_page / search.loops
        else:
            io = pages * random_page
        total = io + entries * searches * (
            self._of("cpu_index_tuple_cost") + operator * search.quals
        )
        descent = (shape.levels + 1) * 50 * operator
        if shape.entries > 1:
            descent += math.ceil(math.log2(shape.entries)) * operator
        return descent, total + searches * descent

    def index_scan(
        self,
        table: TableFacts,
        shape: IndexShape,
        search: Search,
        correlation: float,
        covering: bool = False,
    ) -> ScanCost:
        """cost_index: rows fetched in index order."""
        startup, index_cost = self.index_part(table, shape, search)
        random_page, seq_page = self._of("random_page_cost"), self._of("seq_page_cost")
        rows = max(1.0, round(search.matched_share * table.rows))
        in_order = math.ceil(search.matched_share * table.pages)
        hidden = (1.0 - table.visible_share) if covering else 1.0
        total_pages, cache = table.pages + shape.pages, self._cache_pages(table)
        if search.loops > 1:
            worst = pages_fetched(rows * search.loops, table.pages, total_pages, cache)
            best = pages_fetched(in_order * search.loops, table.pages, total_pages, cache)
            worst_io = math.ceil(worst * hidden) * random_page / search.loops
            best_io = math.ceil(best * hidden) * random_page / search.loops
        else:
            worst = pages_fetched(rows, table.pages, total_pages, cache)
            worst_io = math.ceil(worst * hidden) * random_page
            pages = math.ceil(in_order * hidden)
            best_io = random_page + (pages - 1) * seq_page if pages > 0 else 0.0
        io = worst_io + correlation**2 * (best_io - worst_io)
        total = index_cost + io + self.per_row(rows, search.filters)
        return ScanCost(startup, total, "index-only scan" if covering else "index scan")

    def bitmap_scan(self, table: TableFacts, shape: IndexShape, search: Search) -> ScanCost:
        """cost_bitmap_heap_scan: pages sorted first, then read in their order."""
        _, index_cost = self.index_part(table, shape, search)
        random_page, seq_page = self._of("random_page_cost"), self._of("seq_page_cost")
        rows = max(1.0, round(search.matched_share * table.rows))
        pages = max(1.0, float(table.pages))
        if search.loops > 1:
            fetched = (
                pages_fetched(
                    rows * search.loops, pages, pages + shape.pages, self._cache_pages(table)
                )
                / search.loops
            )
        else:
            fetched = 2 * pages * rows / (2 * pages + rows)
        fetched = pages if fetched >= pages else math.ceil(fetched)
        page_cost = random_page
        if fetched >= 2:
            page_cost -= (random_page - seq_page) * math.sqrt(fetched / pages)
        startup = index_cost + 0.1 * self._of("cpu_operator_cost") * rows
        total = startup + fetched * page_cost
        total += self.per_row(rows, search.quals + search.filters)
        return ScanCost(startup, total, "bitmap scan")

    def _cache_pages(self, table: TableFacts) -> float:
        return self._of("effective_cache_size") / table.page_bytes


_DEFAULTS = {
    "cpu_operator_cost": 0.0025,
    "cpu_tuple_cost": 0.01,
    "cpu_index_tuple_cost": 0.005,
    "random_page_cost": 4.0,
    "seq_page_cost": 1.0,
    "effective_cache_size": 4.0 * 1024**3,
    "work_mem": 4.0 * 1024**2,
}
