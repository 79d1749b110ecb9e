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
