"""Periods of one query laid into equal spans of time."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta

from humble_ledger.core.entries import PeriodEntry

# Spans that people think in, in seconds.
_ROUND_S = (60, 300, 900, 3600, 10_800, 43_200, 86_400, 604_800, 2_592_000, 31_536_000)


def in_spans(periods: Iterable[PeriodEntry], most: int) -> list[tuple[str, int, float]]:
    """At most ``most`` spans: when each begins, the runs in it, and their time (ms).

    A period counts in the span it began in; spans without runs stand between the others.
    """
    timed = [(datetime.fromisoformat(p.first_at), p) for p in periods if p.first_at]
    if not timed:
        return []
    first, last = min(at for at, _ in timed), max(at for at, _ in timed)
    seconds = (last - first).total_seconds()
    width = next((s for s in _ROUND_S if seconds / s < most - 1), _ROUND_S[-1])
    begin = first - timedelta(seconds=first.timestamp() % width)
    found: dict[int, list[float]] = {}
    for at, period in timed:
        place = int((at - begin).total_seconds() // width)
        calls, total = found.setdefault(place, [0, 0.0])
        found[place] = [calls + period.calls, total + period.total_ms]
    shown = "%Y-%m-%d" if width >= 86_400 else "%Y-%m-%d %H:%M"
    return [
        (
            (begin + timedelta(seconds=place * width)).strftime(shown),
            int(found.get(place, [0, 0.0])[0]),
            found.get(place, [0, 0.0])[1],
        )
        for place in range(max(found) + 1)
    ][-most:]
