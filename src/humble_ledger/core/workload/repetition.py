"""The loop in an application: one small statement sent again and again by one session.

A *burst* is a statement that one session sends at least `FEWEST` times, with at most
`MOST_BETWEEN` other statements and `LONGEST_GAP_S` seconds between two of them. It costs more
than its milliseconds on the server: each sending waits for the network, too.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from itertools import islice

from humble_ledger.core.workload.origins import Origin

FEWEST = 25
MOST_BETWEEN = 4
LONGEST_GAP_S = 1.0
SMALL_MS = 20.0
_MOST_SESSIONS = 20_000
_MOST_REMEMBERED = 10_000


@dataclass(slots=True)
class Repetition:
    """The bursts of one query in a capture.

    ``calls`` in all bursts, ``total_ms`` their time on the server, ``seconds`` from the first
    to the last sending of each, summed; ``unchanged`` are calls whose values had been sent in
    the same burst before. ``origins`` has the calls by the place of the application that sent
    them, where that is known; ``requests`` tells that each burst is part of one request.
    """

    bursts: int = 0
    calls: int = 0
    largest: int = 0
    total_ms: float = 0.0
    seconds: float = 0.0
    unchanged: int = 0
    sessions: set[str] = field(default_factory=set)
    origins: dict[Origin, int] = field(default_factory=dict)
    requests: bool = False


class _Burst:
    """One session's sendings of one statement that may become a burst."""

    __slots__ = (
        "begun", "calls", "in_request", "last", "origins", "place", "seen", "total_ms", "unchanged",
    )  # fmt: skip

    def __init__(self, place: int, end_s: float, ms: float) -> None:
        self.place = place
        self.begun = end_s - ms / 1000.0
        self.last = end_s
        self.calls = 0
        self.total_ms = 0.0
        self.unchanged = 0
        self.seen: set[int] = set()
        self.origins: dict[Origin, int] = {}
        self.in_request = False


class _Session:
    __slots__ = ("bursts", "place")

    def __init__(self) -> None:
        self.place = 0
        self.bursts: dict[int, _Burst] = {}


class RepetitionWatch:
    """Watches runs in the order of the log; `found` has each query's bursts by its group."""

    def __init__(self) -> None:
        self.found: dict[int, Repetition] = {}
        self._sessions: dict[str, _Session] = {}

    def saw(self, group: int, session: str, end_s: float, ms: float, values: int) -> None:
        """A run: its group, who sent it, when it ended, how long it took, a hash of its values."""
        self.saw_many(((group, session, end_s, ms, values),))

    def saw_many(self, runs: Iterable[tuple[int, str, float, float, int]]) -> None:
        """Runs one after the other, each as for `saw`."""
        sessions = self._sessions
        for group, session, end_s, ms, values in runs:
            seen = sessions.get(session)
            if seen is None:
                seen = self._new_session(session)
            place = seen.place = seen.place + 1
            burst = seen.bursts.get(group)
            if (
                burst is None
                or place - burst.place > MOST_BETWEEN + 1
                or not -LONGEST_GAP_S < end_s - burst.last - ms / 1000.0 < LONGEST_GAP_S
            ):
                if burst is not None:
                    self._close(group, session, burst)
                burst = seen.bursts[group] = _Burst(place, end_s, ms)
            burst.place = place
            burst.last = end_s
            burst.calls += 1
            burst.total_ms += ms
            if values in burst.seen:
                burst.unchanged += 1
            elif burst.calls < _MOST_REMEMBERED:
                burst.seen.add(values)

    def came_from(self, group: int, session: str, origin: Origin, *, in_request: bool) -> None:
        """Where the run came from that was `saw` last; ``in_request``: session is a request."""
        burst = self._sessions[session].bursts[group]
        burst.in_request = in_request
        if origin:
            burst.origins[origin] = burst.origins.get(origin, 0) + 1

    def add(self, group: int, more: Repetition) -> None:
        """Count bursts that were watched elsewhere."""
        found = self.found.setdefault(group, Repetition())
        found.bursts += more.bursts
        found.calls += more.calls
        found.largest = max(found.largest, more.largest)
        found.total_ms += more.total_ms
        found.seconds += more.seconds
        found.unchanged += more.unchanged
        found.requests |= more.requests
        for origin, calls in more.origins.items():
            found.origins[origin] = found.origins.get(origin, 0) + calls
        room = max(_MOST_REMEMBERED - len(found.sessions), 0)
        found.sessions.update(islice(more.sessions, room))

    def finish(self) -> dict[int, Repetition]:
        """Close what is still open; the bursts of each group."""
        for session, seen in self._sessions.items():
            for group, burst in seen.bursts.items():
                self._close(group, session, burst)
        self._sessions.clear()
        return self.found

    def _new_session(self, session: str) -> _Session:
        if len(self._sessions) >= _MOST_SESSIONS:  # the oldest has long ended
            oldest = next(iter(self._sessions))
            for group, burst in self._sessions.pop(oldest).bursts.items():
                self._close(group, oldest, burst)
        made = self._sessions[session] = _Session()
        return made

    def _close(self, group: int, session: str, burst: _Burst) -> None:
        if burst.calls < FEWEST or burst.total_ms > SMALL_MS * burst.calls:
            return
        seconds = max(burst.last - burst.begun, 0.0)
        self.add(
            group,
            Repetition(
                1, burst.calls, burst.calls, burst.total_ms, seconds, burst.unchanged, {session},
                burst.origins, burst.in_request,
            ),
        )  # fmt: skip
