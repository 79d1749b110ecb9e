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
    mean length of an index entry with its header, aligned. ``repeated`` tells of keys that came
    four times or more: (how often, how many such keys).
    """

    rows_seen: int
    rows_kept: int
    distinct_seen: int
    seen_once: int
    entry_bytes: float
    repeated: tuple[tuple[int, int], ...] = ()

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
        if kept >= entries:
            return max(1.0, min(seen, entries))
        if in_order:
            return max(1.0, min(seen * entries / kept, entries))
        # Keys that come very often say nothing of the others, and would have them look rarer.
        often = float(sum(count for _, count in self.repeated))
        of_these = float(sum(size * count for size, count in self.repeated))
        entries -= of_these * entries / kept
        kept, seen = kept - of_these, seen - often
        if once == 0 or kept <= 0:
            found = seen
        elif once >= kept:
            found = entries
        else:
            found = kept * seen / ((kept - once) + once * kept / entries)
        return max(1.0, often + min(found, entries))

    def groups(self, entries: float, distinct: float, in_order: bool) -> list[tuple[float, float]]:
        """Groups of equal keys among so many entries, as (entries in each, how many such groups).

        Keys that the sample saw often are common by themselves; the others share evenly what is
        left of the entries and of the ``distinct`` keys.
        """
        scale = entries / max(1.0, float(self.rows_kept))
        found: list[tuple[float, float]] = []
        left, keys = entries, distinct
        for seen, count in self.repeated:
            size, many = (float(seen), count * scale) if in_order else (seen * scale, float(count))
            if size * many > left or many >= keys:
                continue
            found.append((size, many))
            left, keys = left - size * many, keys - many
        if left >= 1.0:
            keys = max(1.0, min(keys, left))
            found.append((left / keys, keys))
        return found
