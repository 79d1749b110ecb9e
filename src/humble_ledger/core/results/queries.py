"""All that is known of one query."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from humble_ledger.core.entries import (
    IncidentEntry,
    PeriodEntry,
    PlanEntry,
    RunEntry,
    SymptomEntry,
    WaitEntry,
)
from humble_ledger.core.workload.origins import CodePlace, Sender
from humble_ledger.core.workload.ranking import RankedQuery
from humble_ledger.core.workload.tags import TagValue
from humble_ledger.core.workload.values import SlowValue


@dataclass(frozen=True, slots=True)
class ValueColumn:
    """A place in a query where values stand, and the value of each run shown, in order."""

    name: str
    values: tuple[str | None, ...]


@dataclass(frozen=True, slots=True)
class QueryFindings:
    """All that the ledger knows of one query.

    ``source`` is the kind of source its figures are from; ``columns`` has the values of
    ``runs``, the slowest that were kept; ``senders`` are the places of an application that sent it.
    """

    ranked: RankedQuery
    source: str
    runs: tuple[RunEntry, ...]
    kept_runs: int
    columns: tuple[ValueColumn, ...]
    slow_values: tuple[tuple[str, SlowValue], ...]
    over_time: tuple[PeriodEntry, ...]
    plans: tuple[PlanEntry, ...]
    symptoms: tuple[SymptomEntry, ...]
    waits: tuple[WaitEntry, ...]
    incidents: tuple[IncidentEntry, ...]
    senders: tuple[Sender, ...] = ()


@dataclass(frozen=True, slots=True)
class CodeRanking:
    """The places of applications by what they sent; ``source`` is the kind it was captured from.

    ``texts`` are those of the queries named. ``places`` may be the first of ``count``; ``calls``
    and ``total_ms`` are of all of them, ``unplaced_ms`` took the runs of which no place is known.
    """

    places: tuple[CodePlace, ...]
    source: str
    texts: Mapping[str, str]
    count: int
    calls: int
    total_ms: float
    unplaced_ms: float


@dataclass(frozen=True, slots=True)
class TagRanking:
    """The values of a tag by what their runs took; ``source`` is the kind of source.

    ``values`` may be the first of ``count``; ``calls`` and ``total_ms`` are of all of them,
    ``untagged_ms`` took the runs that have no such tag. ``names`` are all tags there are.
    """

    name: str
    values: tuple[TagValue, ...]
    source: str
    texts: Mapping[str, str]
    count: int
    calls: int
    total_ms: float
    untagged_ms: float
    names: tuple[str, ...]
