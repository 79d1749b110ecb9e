"""Summing up runs as they are read, in room that does not grow with their number.

Every run counts in the *period* of its query, client and minute: calls, time, spread. Runs
themselves, with their values, are kept as examples: the first two thousand of a query, later
ones ever more rarely, and always those that were slower than most before.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from heapq import heappush, heapreplace
from random import Random
from typing import TYPE_CHECKING

from humble_ledger.core.statements.fingerprint import Normalised, normalise
from humble_ledger.core.workload.durations import bucket_of
from humble_ledger.core.workload.incidents import Incident
from humble_ledger.core.workload.origins import Origin, OriginWatch, Sent
from humble_ledger.core.workload.repetition import RepetitionWatch
from humble_ledger.core.workload.tags import TagSums, TagWatch
from humble_ledger.core.workload.usage import NO_WORK, Usage, Work

if TYPE_CHECKING:  # NumPy only for those who count many at once
    from numpy.random import Generator

    from humble_ledger.core.workload.counting import Floats, Ints, Runs

KEPT_WHOLE = 2_000
# Of n runs beyond those, about RARELY_KEPT × ln(n / KEPT_WHOLE) more are kept.
RARELY_KEPT = 200
SLOWEST_KEPT = 100
_MOST_KNOWN = 100_000
Client = tuple[str, str, str]  # user, database, application
NOBODY: Client = ("", "", "")


@dataclass(frozen=True, slots=True)
class RunSeen:
    """One run kept as an example.

    ``wording`` with ``literals`` gives the text that was sent; ``values`` are those of its
    parameters. ``started_s`` is in seconds since 1970, None when unknown; ``duration_ms`` is
    None for a statement that was only read in a script.
    """

    group: int
    wording: str
    literals: Sequence[str]
    values: Sequence[str | None]
    client: Client
    session: str
    started_s: float | None
    duration_ms: float | None
    rows: int | None = None


@dataclass(slots=True)
class Period:
    """The runs of one query by one client within a minute; see `usage.Usage`."""

    group: int
    client: Client
    usage: Usage
    first_s: float | None
    last_s: float | None


@dataclass(slots=True)
class Harvest:
    """What was gathered since the last harvest, ready to be kept.

    ``groups`` has every group met so far, in the order of their numbers; ``sent`` what came from
    which place of an application, ``tags`` what runs took by the tags of their statements.
    """

    groups: Sequence[Normalised]
    periods: list[Period] = field(default_factory=list)
    runs: list[RunSeen] = field(default_factory=list)
    incidents: list[tuple[int | None, Incident]] = field(default_factory=list)
    sent: dict[tuple[int, Origin], Sent] = field(default_factory=dict)
    tags: dict[tuple[int, str, str], TagSums] = field(default_factory=dict)


class Groups:
    """Statements to group numbers: the same fingerprint, the same number."""

    def __init__(self) -> None:
        self.all: list[Normalised] = []
        self._by_wording: dict[str, int] = {}
        self._by_fingerprint: dict[str, int] = {}

    def of(self, wording: str, sql: str) -> int:
        """The group of a statement; ``wording`` is a key for which it is always the same."""
        number = self._by_wording.get(wording)
        if number is None:
            number = self.add(normalise(sql))
            if len(self._by_wording) < _MOST_KNOWN:
                self._by_wording[wording] = number
        return number

    def found(self, wording: str, text: str, fingerprint: str) -> int:
        """The group of a statement whose text and fingerprint somebody has found already."""
        number = self._by_wording.get(wording)
        if number is None:
            number = self.add(Normalised(text, fingerprint, ()))
            if len(self._by_wording) < _MOST_KNOWN:
                self._by_wording[wording] = number
        return number

    def add(self, found: Normalised) -> int:
        """The group of a statement that was normalised already."""
        number = self._by_fingerprint.get(found.fingerprint)
        if number is None:
            number = self._by_fingerprint[found.fingerprint] = len(self.all)
            self.all.append(found)
        return number


class _Spread:
    """How many runs a group had, and its slowest: who decides which runs are kept whole."""

    __slots__ = ("calls", "slowest")

    def __init__(self) -> None:
        self.calls = 0
        self.slowest: list[float] = []


class _Tally:
    """A period in the making."""

    __slots__ = (
        "calls", "counts", "first", "last", "number", "rows", "slowest", "squares", "timed",
        "total",
    )  # fmt: skip

    def __init__(self, number: int, start: float | None) -> None:
        self.number = number
        self.calls = 0
        self.total = 0.0
        self.squares = 0.0
        self.slowest = 0.0
        self.rows: int | None = None
        self.counts: dict[int, int] = {}
        self.first = self.last = 0.0 if start is None else start
        self.timed = start is not None


class Gathering:
    """Takes runs one by one; `harvest` hands over what came since the last time.

    With ``numbered`` it also tells the number of each run that was kept; see `parts`.
    """

    def __init__(self, *, numbered: bool = False) -> None:
        self.groups = Groups()
        self.repetition = RepetitionWatch()
        self.origins = OriginWatch()
        self.tags = TagWatch()
        self.kept = 0
        self._tallies: dict[tuple[int, Client, int | None], _Tally] = {}
        self._spreads: list[_Spread] = []
        self._runs: list[RunSeen] = []
        self._incidents: list[tuple[int | None, Incident]] = []
        self._random = Random(0).random  # a fair sample, and the same one each time
        self._many_random: Generator | None = None
        self._buckets: list[tuple[Ints, Ints]] = []
        # The numbers of runs that are to be kept whole, in the order in which they will be.
        self._numbers: list[int] | None = [] if numbered else None

    def count(
        self, group: int, client: Client, end_s: float | None, ms: float, rows: int | None = None
    ) -> bool:
        """Count a run, and the rows it gave; tells whether to keep it whole, too (with `keep`)."""
        self.kept += 1
        start = None if end_s is None else end_s - ms / 1000.0
        key = (group, client, None if start is None else int(start // 60))
        tally = self._tallies.get(key)
        if tally is None:
            tally = self._tallies[key] = _Tally(len(self._tallies), start)
        tally.calls += 1
        tally.total += ms
        tally.squares += ms * ms
        tally.slowest = max(tally.slowest, ms)
        if rows is not None:
            tally.rows = (tally.rows or 0) + rows
        bucket = bucket_of(ms)
        counts = tally.counts
        counts[bucket] = counts.get(bucket, 0) + 1
        if start is not None:
            if start > tally.last:
                tally.last = start
            elif start < tally.first:
                tally.first = start
        return self._is_kept_whole(group, ms)

    def count_many(self, runs: Runs, clients: Sequence[Client]) -> list[int]:
        """Count runs that came one after the other; the places of those to keep whole, too.

        The clients of ``runs`` are places in ``clients``. The same as `count` for each; only
        which of a query's later runs are kept as its rare examples may differ.
        """
        import numpy as np  # noqa: PLC0415 - only large logs need it

        from humble_ledger.core.workload.counting import counted  # noqa: PLC0415

        self.kept += len(runs.groups)
        found = counted(runs)
        numbers = np.empty(len(found.sums), np.int64)
        for place, each in enumerate(found.sums):
            key = (each.group, clients[each.client], each.minute)
            tally = self._tallies.get(key)
            if tally is None:
                start = None if each.minute is None else each.first_s
                tally = self._tallies[key] = _Tally(len(self._tallies), start)
            numbers[place] = tally.number
            tally.calls += each.calls
            tally.total += each.total_ms
            tally.squares += each.squares_ms2
            tally.slowest = max(tally.slowest, each.slowest_ms)
            if tally.timed:
                tally.first = min(tally.first, each.first_s)
                tally.last = max(tally.last, each.last_s)
        # Counted when harvested: most of a block's runs have a bucket of their own.
        self._buckets.append((numbers[found.which], found.buckets))
        return self._kept_whole_of(runs.groups, runs.durations)

    def keep(self, run: RunSeen) -> None:
        """Keep a run as an example."""
        self._runs.append(run)

    def numbers(self) -> list[int]:
        """Of each run that was kept its number among those of its query; see `parts.Part`."""
        return self._numbers or []

    def keeps_also(self, group: int, ms: float | None, number: int) -> bool:
        """Whether a run that was kept elsewhere, as the ``number``-th there, is kept here, too."""
        spread = self._spread_of(group)
        if ms is not None and _is_among_slowest(spread.slowest, ms):
            return True
        whole = spread.calls + abs(number)
        if whole <= KEPT_WHOLE:
            return True
        # Of those that were drawn elsewhere some are drawn again, so that all had the same chance.
        drawn = number > KEPT_WHOLE
        return self._random() * whole < (number if drawn else RARELY_KEPT)

    def counted_also(self, group: int, calls: int) -> None:
        """Runs that were counted elsewhere, before any that come now."""
        self._spread_of(group).calls += calls
        self.kept += calls

    def happened(self, group: int | None, incident: Incident) -> None:
        """An incident, of a statement's group when that is known."""
        self._incidents.append((group, incident))

    @property
    def size(self) -> int:
        """How much waits to be harvested, in things."""
        return len(self._tallies) + len(self._runs) + len(self._incidents)

    def harvest(self, *, ended: bool = False) -> Harvest:
        """What came since the last time; nothing comes after it when all has ``ended``."""
        self._count_buckets()
        periods = [
            Period(
                group,
                client,
                _usage(each),
                each.first if each.timed else None,
                each.last if each.timed else None,
            )
            for (group, client, _), each in self._tallies.items()
        ]
        sent = self.origins.harvest(ended=ended)
        found = Harvest(
            self.groups.all, periods, self._runs, self._incidents, sent, self.tags.harvest()
        )
        self._tallies, self._runs, self._incidents = {}, [], []
        return found

    def _count_buckets(self) -> None:
        """Give each period the buckets of the runs that were counted many at once."""
        if not self._buckets:
            return
        from humble_ledger.core.workload.counting import pair_counts  # noqa: PLC0415

        tallies = list(self._tallies.values())
        for number, bucket, many in pair_counts(self._buckets):
            counts = tallies[number].counts
            counts[bucket] = counts.get(bucket, 0) + many
        self._buckets = []

    def _spread_of(self, group: int) -> _Spread:
        spreads = self._spreads
        while group >= len(spreads):
            spreads.append(_Spread())
        return spreads[group]

    def _kept_whole_of(self, groups: Ints, durations: Floats) -> list[int]:
        """The places of those runs for which `_is_kept_whole` would say so."""
        import numpy as np  # noqa: PLC0415 - only large logs need it

        from humble_ledger.core.workload.counting import places_in_group  # noqa: PLC0415

        met = np.unique(groups)
        spreads = [self._spread_of(int(group)) for group in met]
        known = np.searchsorted(met, groups)
        full = np.array([len(each.slowest) >= SLOWEST_KEPT for each in spreads])
        bar = np.array([each.slowest[0] if each.slowest else 0.0 for each in spreads])
        before = np.array([each.calls for each in spreads])
        calls = before[known] + places_in_group(groups) + 1
        if self._many_random is None:
            self._many_random = np.random.default_rng(0)
        by_place = (calls <= KEPT_WHOLE) | (
            self._many_random.random(len(groups)) * calls < RARELY_KEPT
        )
        # The bar only rises, so whoever is below it now is not among the slowest.
        slow = ~full[known] | (durations > bar[known])
        kept = []
        for place in np.flatnonzero(by_place | slow).tolist():
            ms = float(durations[place])
            if _is_among_slowest(spreads[known[place]].slowest, ms) or by_place[place]:
                kept.append(place)
                if self._numbers is not None:
                    number = int(calls[place])
                    self._numbers.append(number if by_place[place] else -number)
        for each, many in zip(spreads, np.bincount(known).tolist(), strict=True):
            each.calls += many
        return kept

    def _is_kept_whole(self, group: int, ms: float) -> bool:
        spread = self._spread_of(group)
        spread.calls += 1
        first = spread.calls <= KEPT_WHOLE
        slow = _is_among_slowest(spread.slowest, ms)
        kept = slow or first or self._random() * spread.calls < RARELY_KEPT
        if kept and self._numbers is not None:
            self._numbers.append(-spread.calls if slow and not first else spread.calls)
        return kept


def _usage(tally: _Tally) -> Usage:
    work = NO_WORK if tally.rows is None else Work(rows=float(tally.rows))
    return Usage(
        tally.calls, tally.calls, tally.total, tally.squares, tally.slowest, tally.counts, work
    )


def _is_among_slowest(slowest: list[float], ms: float) -> bool:
    """Whether a run is one of the slowest so far; if so it takes its place among them."""
    if len(slowest) < SLOWEST_KEPT:
        heappush(slowest, ms)
        return True
    if ms > slowest[0]:
        heapreplace(slowest, ms)
        return True
    return False
