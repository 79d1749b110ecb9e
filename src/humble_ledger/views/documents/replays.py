"""Replays: phases, seconds, queries."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.entries import ReplayEntry
from humble_ledger.core.replays.model import Latency, PhaseOf, Replay
from humble_ledger.views.documents.parts import rounded


class LatencyRow(Struct, frozen=True):
    """Percentiles of runs that ended well."""

    runs: int
    errors: int
    p50_ms: float | None
    p95_ms: float | None
    p99_ms: float | None
    max_ms: float | None


class PhaseRow(Struct, frozen=True):
    """A part of a replay, and each query in it."""

    name: str
    begun_s: float
    ended_s: float
    runs_per_s: float
    all: LatencyRow
    queries: dict[str, LatencyRow]


class SecondRow(Struct, frozen=True):
    """One second; runs are counted when they end."""

    second: int
    all: LatencyRow


class ReplayDocument(Struct, frozen=True):
    """A replay."""

    id: str
    status: str
    target: str
    rhythm: str | None
    clients: int | None
    seconds: float | None
    remedies: list[str]
    change_begun_s: float | None
    change_done_s: float | None
    phases: list[PhaseRow]
    by_second: list[SecondRow]
    errors: dict[str, int]
    late_ms: float | None
    stopped_early: bool
    left_behind: list[str]
    kind: Literal["replay"] = "replay"
    version: Literal[1] = 1


def replay_document(entry: ReplayEntry) -> ReplayDocument:
    """A replay."""
    replay = entry.replay
    change = replay.change if replay is not None else None
    return ReplayDocument(
        id=entry.id,
        status=entry.status,
        target=entry.target,
        rhythm=replay.rhythm.value if replay else None,
        clients=replay.clients if replay else None,
        seconds=rounded(replay.seconds) if replay else None,
        remedies=list(replay.remedies) if replay else [],
        change_begun_s=rounded(change.begun_s) if change else None,
        change_done_s=rounded(change.done_s) if change else None,
        phases=[_phase(each) for each in replay.phases] if replay else [],
        by_second=_seconds(replay) if replay else [],
        errors=dict(replay.errors) if replay else {},
        late_ms=rounded(replay.late_ms) if replay else None,
        stopped_early=replay.stopped_early if replay else False,
        left_behind=list(replay.left_behind) if replay else [],
    )


def _phase(phase: PhaseOf) -> PhaseRow:
    return PhaseRow(
        phase.name,
        round(phase.begun_s, 3),
        round(phase.ended_s, 3),
        round(phase.per_second, 3),
        _latency(phase.latency),
        {query: _latency(each) for query, each in phase.queries},
    )


def _seconds(replay: Replay) -> list[SecondRow]:
    return [SecondRow(each.second, _latency(each.latency)) for each in replay.by_second]


def _latency(found: Latency) -> LatencyRow:
    return LatencyRow(
        found.runs,
        found.errors,
        rounded(found.p50_ms),
        rounded(found.p95_ms),
        rounded(found.p99_ms),
        rounded(found.max_ms),
    )
