"""PostgreSQL's published cost formulas for reading a table through a b-tree index.

Sources: `src/backend/optimizer/path/costsize.c` (cost_index, cost_bitmap_heap_scan,
index_pages_fetched) and `src/backend/utils/adt/selfuncs.c` (btcostestimate,
genericcostestimate) of PostgreSQL 18. Page fetches follow
Mackert and Lohman, "Index Scans Using a Finite LRU Buffer", ACM TODS 14(3), 1989.

Costs are in the server's units.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from humble_ledger.core.costs.model import IndexShape, ScanCost, Search
from humble_ledger.core.schema.facts import ColumnFacts, ServerFacts, TableFacts
from humble_ledger.engines.postgresql.costs.resources import PostgresResources
from humble_ledger.engines.postgresql.costs.sizes import RANGE_PAGES, PostgresSizes

SKIPS_FROM = 180000  # the version that searches once for each value of a leading column


def bitmap_pages(pages: float, rows: float) -> float:
    """Mackert and Lohman without a cache: pages that hold ``rows`` rows at random places."""
    fetched = 2 * pages * rows / (2 * pages + rows)
    return pages if fetched >= pages else math.ceil(fetched)


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
class PostgresCosts:
    """The formulas with one server's cost settings; see `core.costs.contract.CostModel`."""

    server: ServerFacts

    @property
    def sizes(self) -> PostgresSizes:
        """How large its indexes are."""
        return PostgresSizes()

    @property
    def resources(self) -> PostgresResources:
        """What it grants to one step."""
        return PostgresResources(self.server)

    @property
    def skips_leading_columns(self) -> bool:
        """Whether a search may skip a leading column."""
        return self.server.version_number >= SKIPS_FROM

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

    def full_scan(self, table: TableFacts, operators: float = 0) -> float:
        """cost_seqscan by one process."""
        return table.pages * self._of("seq_page_cost") + self.per_row(table.rows, operators)

    def correlation(self, leading: ColumnFacts | None, keys: int) -> float:
        """That of the leading column, with btcostestimate's discount for several keys."""
        found = (leading.correlation or 0.0) if leading else 0.0
        return found * 0.75 if keys > 1 else found

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
        hidden = table.visited_share if covering else 1.0
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
        rows = max(1.0, round(search.matched_share * table.rows))
        pages = max(1.0, float(table.pages))
        if search.loops > 1:
            fetched = (
                pages_fetched(
                    rows * search.loops, pages, pages + shape.pages, self._cache_pages(table)
                )
                / search.loops
            )
            fetched = pages if fetched >= pages else math.ceil(fetched)
        else:
            fetched = bitmap_pages(pages, rows)
        startup = index_cost + 0.1 * self._of("cpu_operator_cost") * rows
        total = startup + self._by_bitmap(fetched, pages, rows, search)
        return ScanCost(startup, total, "bitmap scan")

    def block_range_scan(
        self, table: TableFacts, shape: IndexShape, search: Search, correlation: float
    ) -> ScanCost:
        """brincostestimate, and the bitmap scan over the ranges of pages it leaves.

        Every range that may hold a match is read, so the rows follow from the ranges.
        """
        pages = max(1.0, float(table.pages))
        ranges = math.ceil(pages / RANGE_PAGES)
        least = math.ceil(ranges * search.matched_share)
        read = min(ranges, least / max(abs(correlation), 1e-10))
        startup = self._of("random_page_cost")  # the map of the ranges
        index_cost = startup + self._of("seq_page_cost") * max(0, shape.pages - 1)
        index_cost += 0.1 * self._of("cpu_operator_cost") * read * RANGE_PAGES
        rows = max(1.0, round(read / ranges * table.rows))
        total = index_cost + self._by_bitmap(bitmap_pages(pages, rows), pages, rows, search)
        return ScanCost(index_cost, total, "bitmap scan of ranges of pages")

    def inverted_scan(
        self, table: TableFacts, shape: IndexShape, search: Search, terms: int
    ) -> ScanCost:
        """gincostestimate for one search of so many terms, and the bitmap scan behind it.

        How the index's pages divide into terms and places is known only once it is there;
        until then half of them are taken for each.
        """
        half = max(1.0, shape.pages / 2)
        operator, random_page = self._of("cpu_operator_cost"), self._of("random_page_cost")
        rows = max(1.0, round(search.matched_share * table.rows))
        entry_pages = math.ceil(terms * max(1.0, round(half**0.15)))
        by_share = math.ceil(search.matched_share * table.rows / (table.page_bytes / 3))
        io = (entry_pages + max(float(terms), by_share)) * random_page
        descent = terms * (math.ceil(math.log2(max(2.0, shape.entries))) + 50) * operator
        index_cost = io + descent + rows * operator * search.quals
        pages = max(1.0, float(table.pages))
        startup = index_cost + 0.1 * operator * rows
        total = startup + self._by_bitmap(bitmap_pages(pages, rows), pages, rows, search)
        return ScanCost(startup, total, "bitmap scan")

    def _by_bitmap(self, fetched: float, pages: float, rows: float, search: Search) -> float:
        """Reading pages in their order, the more the cheaper each, and testing their rows."""
        random_page, seq_page = self._of("random_page_cost"), self._of("seq_page_cost")
        each = random_page
        if fetched >= 2:
            each -= (random_page - seq_page) * math.sqrt(fetched / pages)
        return fetched * each + self.per_row(rows, search.quals + search.filters)

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
