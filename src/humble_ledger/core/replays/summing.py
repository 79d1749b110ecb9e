"""From single runs to percentiles by second, by phase and by query."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Sequence

import numpy as np

from humble_ledger.core.replays.model import ChangeWindow, Latency, PhaseOf, SecondOf, Sent

WHOLE, BEFORE, DURING, WITH = "whole", "before the change", "while it is made", "with the change"


def latency(runs: Sequence[Sent]) -> Latency:
    """Percentiles of the runs that ended well; errors are only counted."""
    times = [each.elapsed_ms for each in runs if not each.error]
    if not times:
        return Latency(len(runs), len(runs), None, None, None, None)
    p50, p95, p99 = np.percentile(times, [50, 95, 99])
    return Latency(
        len(runs), len(runs) - len(times), float(p50), float(p95), float(p99), max(times)
    )


def by_second(runs: Iterable[Sent], seconds: float) -> tuple[SecondOf, ...]:
    """Every second of the replay, also those in which nothing ended."""
    found: defaultdict[int, list[Sent]] = defaultdict(list)
    for each in runs:
        found[int(each.at_s)].append(each)
    last = max([*found, int(np.ceil(seconds)) - 1])
    return tuple(SecondOf(second, latency(found[second])) for second in range(last + 1))


def phases(
    runs: Sequence[Sent], seconds: float, change: ChangeWindow | None
) -> tuple[PhaseOf, ...]:
    """The parts of a replay: the whole, or before, during and after the change.

    A run belongs to the part in which it was sent; one that was under way when the change
    came belongs to neither side.
    """
    if change is None:
        return (_phase(WHOLE, 0.0, seconds, runs),)
    before, during, after = [], [], []
    for each in runs:
        sent_s = each.at_s - each.elapsed_ms / 1000.0
        if each.at_s <= change.begun_s:
            before.append(each)
        elif sent_s >= change.done_s:
            after.append(each)
        else:
            during.append(each)
    return (
        _phase(BEFORE, 0.0, change.begun_s, before),
        _phase(DURING, change.begun_s, change.done_s, during),
        _phase(WITH, change.done_s, seconds, after),
    )


def errors(runs: Iterable[Sent]) -> tuple[tuple[str, int], ...]:
    """What went wrong, the most frequent first."""
    return tuple(Counter(each.error for each in runs if each.error).most_common())


def _phase(name: str, begun: float, ended: float, runs: Sequence[Sent]) -> PhaseOf:
    grouped: defaultdict[str, list[Sent]] = defaultdict(list)
    for each in runs:
        grouped[each.query].append(each)
    queries = sorted(
        ((query, latency(group)) for query, group in grouped.items()),
        key=lambda found: -(found[1].p50_ms or 0.0) * found[1].runs,
    )
    return PhaseOf(name, begun, ended, latency(runs), tuple(queries))
