"""What queries took period by period in some captures."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import select

from humble_ledger.core.workload.durations import unpack_into
from humble_ledger.ledger import tables as t
from humble_ledger.ledger.ids import Kind, format_id
from humble_ledger.ledger.shelf import Shelf, number_of
from humble_ledger.ledger.usages import AT_ONCE


@dataclass(frozen=True, slots=True)
class SeenPeriod:
    """The runs of a query in a period: calls, those that were timed, their sum (ms) and buckets."""

    calls: int
    timed: int
    total_ms: float
    durations: dict[int, int]


class Drifting(Shelf):
    """Periods by query, over some captures."""

    def periods(self, captures: Sequence[str]) -> dict[str, list[SeenPeriod]]:
        """Of each query its periods in these captures, in order of time."""
        numbers = [number_of(Kind.CAPTURE, each) for each in captures]
        p = t.periods.c
        found: dict[str, list[SeenPeriod]] = {}
        for start in range(0, len(numbers), AT_ONCE):
            wanted = (
                select(p.query_id, p.calls, p.timed, p.total_ms, p.durations)
                .where(p.capture_id.in_(numbers[start : start + AT_ONCE]))
                .order_by(p.first_at, p.id)
            )
            for row in self.rows(wanted):
                counts: dict[int, int] = {}
                unpack_into(row.durations, counts)
                each = SeenPeriod(row.calls, row.timed, row.total_ms, counts)
                found.setdefault(format_id(Kind.QUERY, row.query_id), []).append(each)
        return found

    def around(
        self, query: str, source: str, moment: str, earliest: str = ""
    ) -> tuple[list[SeenPeriod], list[SeenPeriod]]:
        """The periods of a query that ended before a moment, and those that began after it.

        Those that began before the ``earliest`` are left out.
        """
        p, k = t.periods.c, t.captures.c
        wanted = (
            select(p.calls, p.timed, p.total_ms, p.durations, p.first_at, p.last_at)
            .join(t.captures, k.id == p.capture_id)
            .where(p.query_id == number_of(Kind.QUERY, query))
            .where(k.source == source)
            .order_by(p.first_at, p.id)
        )
        sides: tuple[list[SeenPeriod], list[SeenPeriod]] = ([], [])
        for row in self.rows(wanted):
            if row.first_at is None or row.last_at is None or row.first_at < earliest:
                continue
            later = row.first_at >= moment
            if not later and row.last_at > moment:
                continue  # it holds runs of both
            counts: dict[int, int] = {}
            unpack_into(row.durations, counts)
            sides[later].append(SeenPeriod(row.calls, row.timed, row.total_ms, counts))
        return sides
