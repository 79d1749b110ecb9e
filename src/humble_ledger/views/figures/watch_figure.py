"""A watch look by look: calls in a second above, their mean time below, what happened as lines."""

from __future__ import annotations

from pathlib import Path

from matplotlib.figure import Figure

from humble_ledger.core.audits.watching import Watched
from humble_ledger.views.figures.saving import save

SIZE = (9.6, 5.6)
INK, SHADE, FAULT = "#202428", "#2f6f8f", "#a33b2f"


def draw_watch(found: Watched, path: Path) -> None:
    """Draw into a file; its ending tells the format.

    Raises:
        ValueError: there is nothing to draw, or the ending is of no known format.
        OSError: the file cannot be written.
    """
    looks = [each for each in found.looks if each.calls_per_s is not None]
    if not looks:
        raise ValueError("the watch had no two looks")
    figure = Figure(figsize=SIZE, layout="constrained")
    above, below = figure.subplots(2, 1, sharex=True)
    at = [each.at_s for each in looks]
    above.plot(at, [each.calls_per_s for each in looks], color=SHADE, marker="o", markersize=3)
    above.set_ylabel("calls in a second")
    above.set_ylim(bottom=0)
    timed = [(each.at_s, each.mean_ms) for each in looks if each.mean_ms is not None]
    if timed:
        below.plot(*zip(*timed, strict=True), color=SHADE, marker="o", markersize=3)
    below.set_ylabel("mean time, ms")
    below.set_ylim(bottom=0)
    below.set_xlabel("seconds since the watch began (measured by the server)")
    for axes in (above, below):
        for side in ("top", "right"):
            axes.spines[side].set_visible(False)
        if found.taken_back_at_s is not None:
            axes.axvline(found.taken_back_at_s, color=FAULT, linestyle="--", linewidth=1)
    if found.taken_back_at_s is not None:
        above.annotate(
            f"{found.trial} taken back", (found.taken_back_at_s, 1.0),
            xycoords=("data", "axes fraction"), xytext=(0, 3), textcoords="offset points",
            color=INK, fontsize=8, ha="center", va="bottom",
        )  # fmt: skip
    save(figure, path)
