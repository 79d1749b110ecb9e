"""What is played, what was seen of it, and the entry that a replay makes."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from humble_ledger.core.statements.kinds import Statement


class Rhythm(StrEnum):
    """When a client sends its next statement."""

    CLOSED = "closed"  # as soon as it has the answer to the last one
    CAPTURED = "captured"  # at the moment it was sent when captured, session by session


@dataclass(frozen=True, slots=True)
class CapturedRun:
    """A captured run that can be sent again; ``at_s`` is counted from the first of all."""

    query: str
    statement: Statement
    session: str
    at_s: float | None


@dataclass(frozen=True, slots=True)
class Sent:
    """One statement that was sent: at which second, for how long, and what went wrong.

    ``at_s`` is the moment of the answer, in seconds from the beginning of the replay.
    """

    at_s: float
    query: str
    elapsed_ms: float
    error: str = ""


@dataclass(frozen=True, slots=True)
class ChangeWindow:
    """When the change was begun and when it was done, in seconds from the beginning."""

    begun_s: float
    done_s: float


@dataclass(frozen=True, slots=True)
class Latency:
    """Percentiles of a number of runs, in milliseconds; None of no run."""

    runs: int
    errors: int
    p50_ms: float | None
    p95_ms: float | None
    p99_ms: float | None
    max_ms: float | None


@dataclass(frozen=True, slots=True)
class SecondOf:
    """One second of a replay; runs are counted when they end."""

    second: int
    latency: Latency


@dataclass(frozen=True, slots=True)
class PhaseOf:
    """A part of a replay: all of it, before the change, while it was made, or with it.

    ``per_second`` is the throughput, runs that ended without an error.
    """

    name: str
    begun_s: float
    ended_s: float
    latency: Latency
    queries: tuple[tuple[str, Latency], ...]

    @property
    def per_second(self) -> float:
        """Runs that ended without an error in a second."""
        done = self.latency.runs - self.latency.errors
        return done / max(self.ended_s - self.begun_s, 1e-9)


@dataclass(frozen=True, slots=True)
class Replay:
    """A whole replay.

    ``late_ms`` is by how much statements were sent late at the median (captured rhythm only);
    ``errors`` are the words of those that came, with their number.
    """

    rhythm: Rhythm
    clients: int
    seconds: float
    phases: tuple[PhaseOf, ...]
    by_second: tuple[SecondOf, ...]
    change: ChangeWindow | None = None
    remedies: tuple[str, ...] = ()
    errors: tuple[tuple[str, int], ...] = ()
    late_ms: float | None = None
    stopped_early: bool = False
    left_behind: tuple[str, ...] = ()
    queries_passed_over: int = 0
