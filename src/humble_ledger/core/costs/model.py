"""Searches, what they cost, and how large an index is.

The number of different keys follows Haas and Stokes, "Estimating the Number of Classes in a
Finite Population", JASA 93, 1998. Costs are in the server's units, sizes in pages and bytes.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

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
    list); ``loops`` how often the scan is repeated with another value. With ``begins_equal`` it is
    for one value of the first key, and maybe a range of another.
    """

    bound_share: float
    matched_share: float
    quals: int
    filters: int = 0
    searches: int = 1
    loops: float = 1.0
    begins_equal: bool = False


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
    """What a sample of a table's pages showed of the entries an index would have.

    ``rows_seen`` were read, ``rows_kept`` of them met the index's condition; among these
    ``distinct_seen`` keys differed, ``seen_once`` of them stood on one page only; ``entry_bytes``
    is the mean length of an index entry with its header, aligned. ``common`` tells of keys that
    stood on several pages: (rows of the sample, how many such keys), ``rare`` the same of all
    others. These stood in ``places``: a key on two pages in two; 0: each row counts as a place.
    ``alike`` tells that equal keys look the same, so that an index may keep them as one.
    """

    rows_seen: int
    rows_kept: int
    distinct_seen: int
    seen_once: int
    entry_bytes: float
    common: tuple[tuple[int, int], ...] = ()
    rare: tuple[tuple[int, int], ...] = ()
    places: int = 0
    alike: bool = True

    @classmethod
    def of(
        cls, found: Sequence[Sequence[Any]], rows_seen: int, header_bytes: float, whole: bool
    ) -> KeySample:
        """What rows that met the condition show, each as (its place, bytes of its keys, *keys).

        ``header_bytes`` of an entry are added to its keys. ``whole``: these are all rows there are,
        so that a key that stands at one place tells nothing of keys that were not seen.
        """
        if not found:
            return cls(rows_seen, 0, 0, 0, header_bytes)
        counted = Counter(tuple(each[2:]) for each in found)
        places: dict[tuple[Any, ...], set[Any]] = {}
        for each in found:
            places.setdefault(tuple(each[2:]), set()).add(each[0])
        common: Counter[int] = Counter()
        rare: Counter[int] = Counter()
        for key, count in counted.items():
            (common if len(places[key]) > 2 else rare)[count] += 1
        width = sum(float(each[1] or 0) for each in found) / len(found)
        return cls(
            rows_seen,
            len(found),
            len(counted),
            0 if whole else sum(len(those) == 1 for those in places.values()),
            width + header_bytes,
            tuple(sorted(common.items())),
            tuple(sorted(rare.items())),
            sum(len(those) for those in places.values() if len(those) <= 2),
        )

    @property
    def share(self) -> float:
        """The part of the rows that meet the condition."""
        return self.rows_kept / max(1, self.rows_seen)

    def distinct(self, entries: float) -> float:
        """How many different keys so many entries have.

        The estimator of Haas and Stokes (JASA 93, 1998), with the pages on which a key stands
        in place of its rows: whole pages were sampled, and where equal keys lie together their
        rows are no independent witnesses. Common keys are counted by themselves, as they say
        nothing of the others.
        """
        if self.rows_kept == 0:
            return 1.0
        scattered = self._distinct_by_chance(entries)
        if scattered is not None:
            return scattered
        part = min(1.0, self.rows_kept / entries)
        often, of_these = self._common
        rare = float(self.distinct_seen) - often
        places = float(self.places or self.rows_kept - of_these)
        left = places - self.seen_once * (1.0 - part)
        found = places * rare / left if left > 0 and self.seen_once else rare
        most = entries * (1.0 - of_these / self.rows_kept)
        return max(1.0, often + max(rare, min(found, most)))

    def _distinct_by_chance(self, entries: float) -> float | None:
        """The same where equal keys lie anywhere; None where they lie together, or little was seen.

        Haas and Stokes take all keys to have as many rows. Where rows come to keys by chance they
        find up to a fifth too few. How keys of one, two and three rows in the sample are to each
        other tells how unequal they are: with S the rows of the key of a row, and S - 1 taken for
        negative binomial with mean m and size k, a part q of the rows shows keys once, twice and
        three times as n G, n q G' / 2 and n q² G'' / 6 with G(z) = (1 + m (1 - z) / k)^-k at
        z = 1 - q, so that 1 + 1/k = 1.5 f1 f3 / f2²; the keys among so many rows are the mean of
        1/S, which is the integral of G from 0 to 1.
        """
        seen = Counter({1: 0})
        for rows, keys in (*self.rare, *self.common):
            seen[rows] += keys
        rare_rows = sum(rows * keys for rows, keys in self.rare)
        often = sum(keys for rows, keys in seen.items() if rows > _SELDOM)
        of_these = sum(rows * keys for rows, keys in seen.items() if rows > _SELDOM)
        left = self.rows_kept - of_these
        part = self.rows_kept / entries
        clustered = self.places < NEARLY_ALL * rare_rows
        if clustered or not self.seen_once or part > FEW_SEEN or seen[2] < FEWEST_PAIRS:
            return None
        once = seen[1] / max(1, left)
        if once < MOSTLY_ONCE:
            return None
        spread = 1.5 * seen[1] * seen[3] / seen[2] ** 2
        # Of three rows too few were seen to tell: by chance, as most references are.
        told = seen[2] ** 2 / (1.5 * seen[1]) >= FEWEST_TRIPLES  # so many there would be by chance
        size = math.inf if not told or abs(spread - 1.0) < NOISE else 1.0 / (spread - 1.0)
        if math.isinf(size):
            mean = -math.log(once) / part
            share = -math.expm1(-mean) / mean
        else:
            mean = size / part * (once ** (-1.0 / size) - 1.0)
            base = max(0.0, 1.0 + mean / size)
            share = size / (mean * (size - 1.0)) * (1.0 - base ** (1.0 - size))
        rest = entries * left / self.rows_kept
        return max(1.0, often + max(float(seen[1] + seen[2]), min(rest, rest * share)))

    def groups(self, entries: float, distinct: float) -> list[tuple[float, float]]:
        """Groups of equal keys among so many entries, as (entries in each, how many such groups).

        Common keys keep their share of the entries. What is left of the entries and of the
        ``distinct`` keys is shared as among the rare keys of the sample where it saw them whole
        (all rows were read, or equal keys lie together), else by chance.
        """
        scale = entries / max(1.0, float(self.rows_kept))
        found = [(seen * scale, float(count)) for seen, count in self.common]
        often, of_these = self._common
        left, keys = entries - of_these * scale, distinct - often
        if left < 1.0:
            return found
        keys = max(1.0, min(keys, left))
        mean = left / keys
        rows = sum(size * count for size, count in self.rare)
        seen = rows / max(1, sum(count for _, count in self.rare))
        if self.rare and mean < seen * NEARLY_WHOLE:
            return found + [(float(size), count * left / rows) for size, count in self.rare]
        return found + by_chance(mean, keys)

    @property
    def _common(self) -> tuple[float, float]:
        """How many keys are common, and how many rows of the sample they have."""
        keys = sum(count for _, count in self.common)
        return float(keys), float(sum(rows * count for rows, count in self.common))


_SELDOM = 3  # rows of a key in the sample: those with more are common ones
NEARLY_ALL = 0.98  # of the rows of rare keys stand in pages of their own: they lie anywhere
FEW_SEEN = 0.5  # of the rows: where more were read, what was seen is nearly all there is
FEWEST_PAIRS, FEWEST_TRIPLES = 30, 10  # keys seen so often, below which they tell nothing
MOSTLY_ONCE = 0.5  # of the rows are of keys seen once, or the keys themselves were mostly seen
NOISE = 0.15  # of a spread of 1, which is chance
NEARLY_WHOLE = 1.15  # times the mean of what was seen: so little of each group was missed
_MANY = 30.0  # entries for a key, from which on chance makes no difference worth counting


def by_chance(mean: float, keys: float) -> list[tuple[float, float]]:
    """Groups of a mean size when entries fall on keys by chance: those that got one at least.

    A Poisson distribution without its nothing, for which mean = parameter / (1 - exp(-parameter)).
    """
    if mean <= 1.0 or mean > _MANY:
        return [(mean, keys)]
    low, high = 0.0, mean
    while high - low > 1e-9 * mean:
        parameter = (low + high) / 2
        low, high = (
            (parameter, high) if parameter < mean * -math.expm1(-parameter) else (low, parameter)
        )
    parameter = high
    chance, found = math.exp(-parameter) / -math.expm1(-parameter), []
    for size in range(1, int(mean + 8 * math.sqrt(mean) + 4)):
        chance *= parameter / size
        if chance > 1e-6:
            found.append((float(size), keys * chance))
    return found
