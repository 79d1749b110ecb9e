"""The size a b-tree index would have when freshly built.

Source: the page layout of PostgreSQL 18 (`src/backend/access/nbtree/nbtsort.c`,
`nbtdedup.c`). How many different keys there are is computed from a block sample of the table
where one was taken (Haas and Stokes, "Estimating the Number of Classes in a Finite
Population", JASA 93, 1998: the estimator that ANALYZE uses, too), else from the statistics of
the single columns. Sizes are in pages and bytes.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

from humble_ledger.core.costs.model import IndexShape, KeySample, by_chance
from humble_ledger.core.schema.facts import ColumnFacts, TableFacts

RANGE_PAGES = 128  # of a block-range index, when nothing else is said
PAGE_HEADERS_BYTES = 40  # page header and b-tree's own trailer
FILL = 0.9
FILL_ABOVE = 0.7  # of the pages above the leaves, when an index is built
ITEM_POINTER_BYTES = 4
TUPLE_HEADER_BYTES = 8
ROW_POINTER_BYTES = 6
# Types whose equal values may look different, so that equal keys are not merged.
_NOT_MERGED = ("numeric", "real", "double precision", "jsonb")


def _aligned(length: float, to: int = 8) -> int:
    return -(-math.ceil(length) // to) * to


def index_shape(
    table: TableFacts,
    columns: Sequence[ColumnFacts],
    included: Sequence[ColumnFacts] = (),
    entries: float | None = None,
    sample: KeySample | None = None,
) -> IndexShape:
    """The size an index on these columns would have when freshly built.

    ``entries`` are its rows when they are not all of the table's. An expression among its
    keys is no column: what a sample shows stands for it.
    """
    entries = max(table.rows if entries is None else entries, 1.0)
    usable = (table.page_bytes - PAGE_HEADERS_BYTES) * FILL
    tuple_bytes = _tuple_bytes([*columns, *included])
    groups = _distinct_keys(columns, entries)
    if sample is not None and sample.rows_kept:
        tuple_bytes = max(16, round(sample.entry_bytes))
        groups = sample.distinct(entries) if sample.alike else entries
    if included or any(c.type_name.startswith(_NOT_MERGED) for c in columns):
        groups = entries
    repeats = entries / groups
    if repeats <= 1.01:
        leaf_bytes = entries * (tuple_bytes + ITEM_POINTER_BYTES)
    else:
        alike = (
            sample.groups(entries, groups)
            if sample is not None and sample.rows_kept
            else by_chance(repeats, groups)
        )
        leaf_bytes = sum(
            many * _merged_bytes(tuple_bytes, size, table.page_bytes) for size, many in alike
        )
    leaves = max(1, math.ceil(leaf_bytes / usable))
    above, levels = _above(leaves, _pivot_bytes(columns), table.page_bytes, FILL_ABOVE)
    return IndexShape(leaves + above + 1, levels, entries)  # and the meta page


def levels_above(
    leaves: int, first_key_bytes: float, keys: int, *, filled: float, page_bytes: int = 8192
) -> int:
    """The levels above so many leaves, of an index whose first key has this mean length.

    ``filled`` is how full the pages above the leaves are, from 0 to 1.
    """
    pivot = _aligned(TUPLE_HEADER_BYTES + first_key_bytes) + (8 if keys > 1 else 0)
    return _above(leaves, pivot, page_bytes, filled)[1]


def _above(leaves: int, pivot_bytes: int, page_bytes: int, filled: float) -> tuple[int, int]:
    """The pages above the leaves, and their levels."""
    usable = page_bytes - PAGE_HEADERS_BYTES - page_bytes * (1.0 - filled)
    fanout = max(2.0, usable // (pivot_bytes + ITEM_POINTER_BYTES))
    pages, level_pages, levels = 0, leaves, 0
    while level_pages > 1:
        level_pages = math.ceil(level_pages / fanout)
        pages, levels = pages + level_pages, levels + 1
    return pages, levels


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


def block_range_shape(table: TableFacts, keys: int, range_pages: int = RANGE_PAGES) -> IndexShape:
    """A block-range index: a map, and the least and greatest value of each range of pages."""
    ranges = max(1, math.ceil(table.pages / range_pages))
    of_map = math.ceil(ranges / 1360)
    data = math.ceil(ranges * (16 + 24 * keys) / (table.page_bytes - PAGE_HEADERS_BYTES))
    return IndexShape(1 + of_map + data, 0, float(ranges))


def inverted_shape(table: TableFacts, width_bytes: float, terms_per_row: float) -> IndexShape:
    """An inverted index: places take about three bytes each when packed; a rough guess."""
    places = max(1.0, table.rows * terms_per_row)
    packed = places * 3.0 / FILL
    terms = min(places, 50_000.0) * (width_bytes / max(1.0, terms_per_row) + 24)
    return IndexShape(2 + math.ceil((packed + terms) / table.page_bytes), 1, places)


def terms_shape(table: TableFacts, terms_per_row: float, sample: KeySample) -> IndexShape:
    """An inverted index by a sample of its terms.

    Source: `src/backend/access/gin` of PostgreSQL 18: each term stands once, with the places of
    its rows packed beside it (`ginpostinglist.c`: the first in 6 bytes, each other as the distance
    in as many 7-bit bytes as it takes), or in pages of their own when they are too many. Pages of
    terms are half full after a build, as they are filled in order and split in the middle.
    """
    places = max(1.0, table.rows * terms_per_row)
    distinct = sample.distinct(places)
    entry = max(12.0, sample.entry_bytes)
    inline, own_pages = 0.0, 0.0
    for size, many in sample.groups(places, distinct):
        packed = _packed_bytes(size, max(1, table.pages))
        whole = _aligned(entry + _LIST_HEADER + packed) + ITEM_POINTER_BYTES
        if whole <= _LARGEST_TERM:
            inline += many * whole
            continue
        inline += many * (entry + _LIST_HEADER + ITEM_POINTER_BYTES)
        leaves = math.ceil(packed * _SEGMENTS / (table.page_bytes - PAGE_HEADERS_BYTES))
        own_pages += many * (leaves + (1 if leaves > 1 else 0))
    usable = (table.page_bytes - PAGE_HEADERS_BYTES) * (1.0 if inline < table.page_bytes else 0.5)
    leaves = math.ceil(inline / usable)
    return IndexShape(round(1 + leaves + leaves // 200 + own_pages) + 1, 1, places)


_LIST_HEADER = 8  # of a packed list: its first place and its length
_LARGEST_TERM = 2_700  # bytes with its places; more are kept in pages of their own
_SEGMENTS = 1.03  # of such pages, for the headers of the segments within
_PAGE_STEP = 2_048  # places of a page, by which distances are counted


def _packed_bytes(rows: float, pages: int) -> float:
    """Bytes of so many places in order, spread evenly over the pages of a table."""
    if rows <= 1.0:
        return 0.0
    across = min(1.0, pages / rows)  # of the distances lead to another page
    far = _PAGE_STEP * max(1.0, pages / rows)
    return (rows - 1.0) * ((1.0 - across) + across * math.ceil(math.log2(far + 1) / 7))


# What a tree of enclosing shapes keeps of a value, in bytes, and how full its pages are after a
# build. Measured with PostgreSQL 15 and 18, 20,000 and 200,000 values: of boxes, circles, points
# and polygons a box of doubles, of geometry one of floats, of ranges the range itself. Ranges that
# come in order leave pages half as full before version 17.
_BOX_BYTES, _FILL_BOXES = 32, 0.55
_PLANE_BYTES, _FILL_PLANE = 16, 0.68
_FILL_RANGES = 0.6


def enclosing_shape(table: TableFacts, columns: Sequence[ColumnFacts]) -> IndexShape:
    """A tree of enclosing shapes; of an expression, which is no column, as if of geometry."""
    kept, fill = _PLANE_BYTES, _FILL_PLANE
    for column in columns:
        if not column.enclosing_functions:
            kept, fill = _BOX_BYTES, _FILL_BOXES
            if column.sortable:
                kept, fill = round(column.mean_width_bytes or 16), _FILL_RANGES
    entry = _aligned(TUPLE_HEADER_BYTES + kept) + ITEM_POINTER_BYTES
    usable = (table.page_bytes - PAGE_HEADERS_BYTES) * fill
    leaves = max(1, math.ceil(max(table.rows, 1.0) * entry / usable))
    above, levels = _above(leaves, entry, table.page_bytes, FILL_ABOVE)
    return IndexShape(leaves + above, levels, max(table.rows, 1.0))


class PostgresSizes:
    """See `core.costs.contract.IndexSizer`."""

    def in_order(
        self,
        table: TableFacts,
        columns: Sequence[ColumnFacts],
        included: Sequence[ColumnFacts] = (),
        entries: float | None = None,
        sample: KeySample | None = None,
    ) -> IndexShape:
        """A b-tree."""
        return index_shape(table, columns, included, entries, sample)

    def block_ranges(self, table: TableFacts, keys: int) -> IndexShape:
        """A block-range index with ranges of the usual size."""
        return block_range_shape(table, keys)

    def enclosing(self, table: TableFacts, columns: Sequence[ColumnFacts]) -> IndexShape:
        """A tree of enclosing shapes."""
        return enclosing_shape(table, columns)

    def inverted(
        self,
        table: TableFacts,
        width_bytes: float,
        terms_per_row: float,
        sample: KeySample | None = None,
    ) -> IndexShape:
        """An inverted index."""
        if sample is not None:
            return terms_shape(table, terms_per_row, sample)
        return inverted_shape(table, width_bytes, terms_per_row)
