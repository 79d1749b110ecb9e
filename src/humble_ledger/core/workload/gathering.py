"""Summing up runs as they are read, in room that does not grow with their number.

Every run counts in the *period* of its query, client and minute: calls, time, spread. Runs
themselves, with their values, are kept as examples: the first two thousand of a query, later
ones ever more rarely, and always those that were slower than most before.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from heapq import heappush, heapreplace
from math import log
from random import Random

from humble_ledger.core.statements.fingerprint import Normalised, normalise
from humble_ledger.core.workload.incidents import Incident
from humble_ledger.core.workload.repetition import RepetitionWatch
from humble_ledger.core.workload.usage import Usage

KEPT_WHOLE = 2_000
# Of n runs beyond those, about RARELY_KEPT × ln(n / KEPT_WHOLE) more are kept.
RARELY_KEPT = 200
SLOWEST_KEPT = 100
_STEP = log(1.005)  # the width of `durations`' buckets
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

    ``groups`` has every group met so far, in the order of their numbers.
    """

    groups: Sequence[Normalised]
    periods: list[Period] = field(default_factory=list)
    runs: list[RunSeen] = field(default_factory=list)
    incidents: list[tuple[int | None, Incident]] = field(default_factory=list)


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

    __slots__ = ("calls", "counts", "first", "last", "slowest", "squares", "timed", "total")

    def __init__(self, start: float | None) -> None:
        self.calls = 0
        self.total = 0.0
        self.squares = 0.0
        self.slowest = 0.0
        self.counts: dict[int, int] = {}
        self.first = self.last = 0.0 if start is None else start
        self.timed = start is not None


class Gathering:
    """Takes runs one by one; `harvest` hands over what came since the last time."""

    def __init__(self) -> None:
        self.groups = Groups()
        self.repetition = RepetitionWatch()
        self.kept = 0
        self._tallies: dict[tuple[int, Client, int | None], _Tally] = {}
        self._spreads: list[_Spread] = []
        self._runs: list[RunSeen] = []
        self._incidents: list[tuple[int | None, Incident]] = []
        self._random = Random(0).random  # a fair sample, and the same one each time

    def count(self, group: int, client: Client, end_s: float | None, ms: float) -> bool:
        """Count a run; tells whether to keep it whole, too (with `keep`).

        This is called for every run of a log, so it is written for speed.
        """
        self.kept += 1
        start = None if end_s is None else end_s - ms / 1000.0
        key = (group, client, None if start is None else int(start // 60))
        tally = self._tallies.get(key)
        if tally is None:
            tally = self._tallies[key] = _Tally(start)
        tally.calls += 1
        tally.total += ms
        tally.squares += ms * ms
        tally.slowest = max(tally.slowest, ms)
        bucket = int(log(ms * 1000.0) / _STEP) + 1 if ms > 0.001 else 0
        counts = tally.counts
        counts[bucket] = counts.get(bucket, 0) + 1
        if start is not None:
            if start > tally.last:
                tally.last = start
            elif start < tally.first:
                tally.first = start
        return self._is_kept_whole(group, ms)

    def keep(self, run: RunSeen) -> None:
        """Keep a run as an example."""
        self._runs.append(run)

    def happened(self, group: int | None, incident: Incident) -> None:
        """An incident, of a statement's group when that is known."""
        self._incidents.append((group, incident))

    @property
    def size(self) -> int:
        """How much waits to be harvested, in things."""
        return len(self._tallies) + len(self._runs) + len(self._incidents)

    def harvest(self) -> Harvest:
        """What came since the last time."""
        periods = [
            Period(
                group,
                client,
                Usage(each.calls, each.calls, each.total, each.squares, each.slowest, each.counts),
                each.first if each.timed else None,
                each.last if each.timed else None,
            )
            for (group, client, _), each in self._tallies.items()
        ]
        found = Harvest(self.groups.all, periods, self._runs, self._incidents)
        self._tallies, self._runs, self._incidents = {}, [], []
        return found

    def _is_kept_whole(self, group: int, ms: float) -> bool:
        spreads = self._spreads
        while group >= len(spreads):
            spreads.append(_Spread())
        spread = spreads[group]
        spread.calls += 1
        slowest = spread.slowest
        if len(slowest) < SLOWEST_KEPT:
            heappush(slowest, ms)
            return True
        if ms > slowest[0]:
            heapreplace(slowest, ms)
            return True
        return spread.calls <= KEPT_WHOLE or self._random() * spread.calls < RARELY_KEPT
