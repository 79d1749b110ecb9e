"""What the comments of statements tell beside their origin: any name with any value, counted.

Frameworks and proxies write pairs like ``app='checkout'`` into a comment. They are never part of a
query's fingerprint.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from humble_ledger.core.workload.usage import Usage

MOST_NAMES = 40
MOST_VALUES = 300  # of a name; what comes then is counted together
THE_REST = "other values"


@dataclass(slots=True)
class TagSums:
    """Runs with one value of a tag, summed up; milliseconds."""

    calls: int = 0
    total_ms: float = 0.0
    squares_ms2: float = 0.0
    max_ms: float = 0.0

    def add(self, other: TagSums) -> None:
        """Both together."""
        self.calls += other.calls
        self.total_ms += other.total_ms
        self.squares_ms2 += other.squares_ms2
        self.max_ms = max(self.max_ms, other.max_ms)

    @property
    def usage(self) -> Usage:
        """As the usage of these runs, of which no quantile is known."""
        return Usage(self.calls, self.calls, self.total_ms, self.squares_ms2, self.max_ms, {})


class TagWatch:
    """Counts runs by the tags of their statements."""

    def __init__(self) -> None:
        self._sums: dict[tuple[int, str, str], TagSums] = {}
        self._values: dict[str, set[str]] = {}

    def saw(self, group: int, tags: Iterable[tuple[str, str]], ms: float) -> None:
        """A run of a group, with all its tags."""
        for name, value in tags:
            self.add(group, name, value, TagSums(1, ms, ms * ms, ms))

    def add(self, group: int, name: str, value: str, more: TagSums) -> None:
        """Runs of a group with one value of a tag, summed up already."""
        values = self._values.get(name)
        if values is None:
            if len(self._values) >= MOST_NAMES:
                return
            values = self._values[name] = set()
        kept = value
        if value not in values:
            if len(values) >= MOST_VALUES:
                kept = THE_REST
            else:
                values.add(value)
        self._sums.setdefault((group, name, kept), TagSums()).add(more)

    def harvest(self) -> dict[tuple[int, str, str], TagSums]:
        """What came since the last harvest."""
        found, self._sums = self._sums, {}
        return found


@dataclass(frozen=True, slots=True)
class TaggedQuery:
    """The runs of a query with one value of a tag, summed over captures."""

    query: str
    value: str
    sums: TagSums


@dataclass(frozen=True, slots=True)
class TagValue:
    """All runs with one value of a tag.

    ``share`` is of the time of all runs that have the tag; ``queries`` are those that took the
    most time first.
    """

    value: str
    queries: tuple[str, ...]
    calls: int
    total_ms: float
    max_ms: float
    share: float


def by_value(found: Iterable[TaggedQuery]) -> list[TagValue]:
    """The values of a tag, those that took the most time first."""
    values: dict[str, list[TaggedQuery]] = {}
    for each in found:
        values.setdefault(each.value, []).append(each)
    whole = sum(each.sums.total_ms for listed in values.values() for each in listed) or 1.0
    rows = []
    for value, listed in values.items():
        listed.sort(key=lambda each: (-each.sums.total_ms, each.query))
        total = sum(each.sums.total_ms for each in listed)
        rows.append(
            TagValue(
                value,
                tuple(each.query for each in listed),
                sum(each.sums.calls for each in listed),
                total,
                max(each.sums.max_ms for each in listed),
                total / whole,
            )
        )
    return sorted(rows, key=lambda row: (-row.total_ms, row.value))
