"""A replay second by second: throughput above, latencies below, the change as a grey band."""

from __future__ import annotations

from pathlib import Path

from matplotlib.figure import Figure
from matplotlib.ticker import FuncFormatter

from humble_ledger.core.replays.model import Replay
from humble_ledger.views.figures.saving import save

SIZE = (9.6, 5.6)
INK, SHADE, PALE, BAND, FAULT = "#202428", "#2f6f8f", "#9dbccb", "#e7e2d6", "#a33b2f"


def _plain(value: float, _: int | None) -> str:
    """Tick marks as plain numbers; of the finer ones only 2 and 5."""
    return f"{value:g}" if f"{value:e}"[0] in "125" else ""


def draw_replay(replay: Replay, path: Path) -> None:
    """Draw into a file; its ending tells the format.

    Raises:
        ValueError: there is nothing to draw, or the ending is of no known format.
        OSError: the file cannot be written.
    """
    # The last second is seldom whole, so that it would look like a drop.
    seconds = [each for each in replay.by_second if each.second + 1 <= replay.seconds + 1e-6]
    if not seconds:
        raise ValueError("the replay has no whole second")
    figure = Figure(figsize=SIZE, layout="constrained")
    above, below = figure.subplots(2, 1, sharex=True)
    at = [each.second + 0.5 for each in seconds]
    done = [each.latency.runs - each.latency.errors for each in seconds]
    above.step([each.second for each in seconds] + [seconds[-1].second + 1], [*done, done[-1]],
               where="post", color=SHADE)  # fmt: skip
    above.set_ylabel("statements in a second")
    above.set_ylim(bottom=0)
    for name, colour in (("p50_ms", SHADE), ("p95_ms", PALE)):
        values = [getattr(each.latency, name) for each in seconds]
        known = [(x, y) for x, y in zip(at, values, strict=True) if y is not None]
        if known:
            below.plot(*zip(*known, strict=True), color=colour, marker="o", markersize=3)
            words = "median" if name == "p50_ms" else "95 %"
            below.annotate(words, known[-1], xytext=(6, 0), textcoords="offset points",
                           color=INK, fontsize=8, va="center")  # fmt: skip
    below.set_yscale("log")
    for axis_ticks in (below.yaxis.set_major_formatter, below.yaxis.set_minor_formatter):
        axis_ticks(FuncFormatter(_plain))
    below.set_ylabel("time of a statement, ms")
    below.set_xlabel("second of the replay")
    failed = [(x, e.latency.errors) for x, e in zip(at, seconds, strict=True) if e.latency.errors]
    for x, count in failed:
        above.annotate(f"{count} failed", (x, 0), color=FAULT, fontsize=7, rotation=90,
                       xytext=(0, 4), textcoords="offset points", ha="center")  # fmt: skip
    if replay.change is not None:
        for axes in (above, below):
            axes.axvspan(replay.change.begun_s, replay.change.done_s, color=BAND, linewidth=0)
            axes.axvline(replay.change.done_s, color=INK, linewidth=0.8, linestyle="--")
        # Between the two plots no line can run through it.
        below.annotate("with the change", (replay.change.done_s, 1.0), fontsize=8,
                       xycoords=("data", "axes fraction"), xytext=(4, 3),
                       textcoords="offset points")  # fmt: skip
    for axes in (above, below):
        for side in ("top", "right"):
            axes.spines[side].set_visible(False)
    above.set_title(
        f"{replay.clients} clients, measured second by second"
        + (" (shaded: while the change was made)" if replay.change is not None else ""),
        fontsize=10, loc="left",
    )  # fmt: skip
    save(figure, path)
