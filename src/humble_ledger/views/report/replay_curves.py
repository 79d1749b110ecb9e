"""A replay second by second, as lines in a drawing of 640 by 120."""

from __future__ import annotations

from dataclasses import dataclass

from humble_ledger.core.replays.model import Replay

WIDTH, HEIGHT = 640.0, 120.0


@dataclass(frozen=True, slots=True)
class Curves:
    """The throughput as points of a line, the change as a band, and the highest of it."""

    throughput: str
    change: tuple[float, float] | None
    most_per_second: int
    seconds: int


def curves_of(replay: Replay) -> Curves | None:
    """The curves; None where no second was whole."""
    seconds = [each for each in replay.by_second if each.second + 1 <= replay.seconds + 1e-6]
    if not seconds:
        return None
    done = [each.latency.runs - each.latency.errors for each in seconds]
    most = max(*done, 1)
    whole = seconds[-1].second + 1
    points = []
    for each, count in zip(seconds, done, strict=True):
        y = HEIGHT * (1.0 - count / most)
        points += [(each.second, y), (each.second + 1, y)]
    line = " ".join(f"{WIDTH * x / whole:.1f},{y:.1f}" for x, y in points)
    change = None
    if replay.change is not None:
        begun, ended = replay.change.begun_s, replay.change.done_s
        change = (WIDTH * begun / whole, WIDTH * max(ended - begun, 0.02) / whole)
    return Curves(line, change, most, whole)
