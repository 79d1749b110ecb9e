"""Who sends what next: as it was captured, session by session, or in a closed loop."""

from __future__ import annotations

import random
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from humble_ledger.core.replays.model import CapturedRun


@dataclass(frozen=True, slots=True)
class Due:
    """A run, and the second at which it should be sent; None for at once."""

    run: CapturedRun
    at_s: float | None


def closed_loop(runs: Sequence[CapturedRun], calls: Mapping[str, int], seed: int) -> Iterator[Due]:
    """Runs drawn for one client, without end: queries as often as they were called.

    ``calls`` is how often each query was captured, which may be more than the runs kept of it;
    the values are those of its kept runs, each as likely as the others.
    """
    chance = random.Random(seed)
    by_query: defaultdict[str, list[CapturedRun]] = defaultdict(list)
    for run in runs:
        by_query[run.query].append(run)
    queries = sorted(by_query)
    weights = [max(1, calls.get(query, 1)) for query in queries]
    while True:
        (query,) = chance.choices(queries, weights)
        yield Due(chance.choice(by_query[query]), None)


def by_session(runs: Sequence[CapturedRun], clients: int, speed: float) -> list[list[Due]]:
    """For each client its sessions' runs in their order, at their moments.

    ``speed`` 2 sends them twice as fast as they were captured. With fewer clients than
    sessions, a client takes several, so that what overlapped may come late.
    """
    sessions: defaultdict[str, list[CapturedRun]] = defaultdict(list)
    for run in sorted(runs, key=lambda each: each.at_s or 0.0):
        sessions[run.session].append(run)
    shares: list[list[Due]] = [[] for _ in range(clients)]
    for session in sorted(sessions, key=lambda name: -len(sessions[name])):
        least = min(shares, key=len)
        least += [Due(run, (run.at_s or 0.0) / speed) for run in sessions[session]]
    return [sorted(share, key=lambda due: due.at_s or 0.0) for share in shares]
