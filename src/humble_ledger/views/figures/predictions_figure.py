"""Predicted cost against the cost found, on logarithmic axes; on the line they are the same."""

from __future__ import annotations

from pathlib import Path

from matplotlib.figure import Figure

from humble_ledger.core.trials.honesty import NEAR, Honesty
from humble_ledger.views.figures.saving import save

SIZE = (6.4, 6.0)
INK, SHADE, BAND = "#202428", "#2f6f8f", "#dfe6ea"


def draw_predictions(found: Honesty, path: Path) -> None:
    """Draw into a file; its ending tells the format.

    Raises:
        ValueError: there is nothing to draw, or the ending is of no known format.
        OSError: the file cannot be written.
    """
    if not found.checked:
        raise ValueError("no trial has checked the prediction of a change yet")
    real = [each.cost_found for each in found.checked]
    predicted = [each.cost_predicted for each in found.checked]
    low, high = min(real + predicted) / 2, max(real + predicted) * 2
    figure = Figure(figsize=SIZE, layout="constrained")
    axes = figure.subplots()
    ends = [low, high]
    axes.fill_between(
        ends,
        [e * (1 - NEAR) for e in ends],
        [e * (1 + NEAR) for e in ends],
        color=BAND,
        linewidth=0,
    )
    axes.plot(ends, ends, color=INK, linewidth=0.8)
    axes.scatter(real, predicted, s=34, color=SHADE, zorder=3)
    for each in found.checked:
        if not 1 - NEAR <= each.ratio <= 1 + NEAR:
            axes.annotate(
                f"{each.trial} {each.query}",
                (each.cost_found, each.cost_predicted),
                xytext=(6, 4),
                textcoords="offset points",
                fontsize=8,
            )
    axes.set(xscale="log", yscale="log", xlim=ends, ylim=ends)
    axes.set_xlabel("cost found with the change there (estimated)")
    axes.set_ylabel("cost predicted")
    axes.set_title(
        f"{len(found.checked)} predictions, {found.near_share or 0:.0%} within a quarter (shaded)",
        fontsize=10,
        loc="left",
    )
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    save(figure, path)
