"""Searches, what they cost, and how large an index is.

The number of different keys follows Haas and Stokes, "Estimating the Number of Classes in a
Finite Population", JASA 93, 1998. Costs are in the server's units, sizes in pages and bytes.
"""

from __future__ import annotations

from dataclasses import dataclass

FEWEST_KEPT = 30  # rows of a sample, below which its share says less than the planner's


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
class KeySample:
    """What a block sample of a table showed of the entries an index would have.

    ``rows_seen`` were read, ``rows_kept`` of them met the index's condition; among these
    ``distinct_seen`` keys differed, ``seen_once`` of them came once; ``entry_bytes`` is the
    mean length of an index entry with its header, aligned.
    """

    rows_seen: int
    rows_kept: int
    distinct_seen: int
    seen_once: int
    entry_bytes: float

    @property
    def share(self) -> float:
        """The part of the rows that meet the condition."""
        return self.rows_kept / max(1, self.rows_seen)

    def distinct(self, entries: float, in_order: bool) -> float:
        """How many different keys so many entries have.

        A block sample of a table whose rows lie in the order of the key sees whole runs of
        equal keys, so their number grows with the rows.
        """
        if self.rows_kept == 0:
            return 1.0
        kept, seen, once = float(self.rows_kept), float(self.distinct_seen), float(self.seen_once)
        if kept >= entries or once == 0:
            found = seen
        elif in_order:
            found = seen * entries / kept
        elif once >= kept:
            found = entries
        else:
            found = kept * seen / ((kept - once) + once * kept / entries)
        return max(1.0, min(found, entries))
