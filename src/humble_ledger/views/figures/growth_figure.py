"""Cost against size, both by ratios; a dot where the plan flips."""

from __future__ import annotations

import math
from collections.abc import Sequence
from pathlib import Path

from matplotlib.figure import Figure
from matplotlib.ticker import FuncFormatter, NullFormatter

from humble_ledger.core.results.growth import Growth
from humble_ledger.views.escaping import escaped
from humble_ledger.views.figures.saving import save

SIZE = (9.6, 6.0)
HEIGHT_POINTS, LINE_POINTS = 370.0, 10.0  # of the axes, about, and of a label
MOST_LINES = 12
INK, PALE, STEEP, FLIP = "#202428", "#2f6f8f", "#a33b2f", "#c98a1b"


def _plain(value: float, _: int | None) -> str:
    """Tick marks as plain numbers."""
    return f"{value:,.0f}" if value >= 1 else f"{value:g}"


def draw_growth(found: Growth, path: Path) -> None:
    """Draw into a file; its ending tells the format.

    Raises:
        ValueError: there is nothing to draw, or the ending is of no known format.
        OSError: the file cannot be written.
    """
    shown = sorted(found.queries, key=lambda q: -q.sizes[-1].cost)[:MOST_LINES]
    if not shown:
        raise ValueError("no query reads a table that grows")
    figure = Figure(figsize=SIZE, layout="constrained")
    axes = figure.subplots()
    for query in shown:
        colour = STEEP if query.worse_than_linear else PALE
        at, costs = [s.factor for s in query.sizes], [max(s.cost, 0.01) for s in query.sizes]
        axes.plot(at, costs, color=colour, linewidth=1.2)
        for flip in query.flips:
            axes.plot(flip.factor, max(flip.first.cost, 0.01), "o", color=FLIP, markersize=5,
                      zorder=3)  # fmt: skip
    axes.set_xscale("log")
    axes.set_yscale("log")
    for axis in (axes.xaxis, axes.yaxis):
        axis.set_major_formatter(FuncFormatter(_plain))
        axis.set_minor_formatter(NullFormatter())
    ends = [(query.query, max(query.sizes[-1].cost, 0.01)) for query in shown]
    low, high = (math.log10(each) for each in axes.get_ylim())
    last = max(query.sizes[-1].factor for query in shown)
    for (name, cost), shift in zip(ends, _apart([c for _, c in ends], low, high), strict=True):
        axes.annotate(escaped(name), (last, cost), xytext=(7, shift), textcoords="offset points",
                      fontsize=8, va="center", color=INK)  # fmt: skip
    axes.set_xlabel("times the rows of now")
    axes.set_ylabel("cost (the planner's estimate)")
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    tables = ", ".join(f"{escaped(table)} to {times:g}×" for table, times in found.tables)
    axes.set_title(
        f"{tables}: a dot where the plan flips, red where the cost grows faster than the rows",
        fontsize=10, loc="left",
    )  # fmt: skip
    save(figure, path)


def _apart(costs: Sequence[float], low: float, high: float) -> list[float]:
    """How far labels at these costs, the largest first, move down so that none hides another.

    In points; ``low`` and ``high`` are the powers of ten at the ends of the axis.
    """
    shifts, above = [], math.inf
    for cost in costs:
        place = (math.log10(cost) - low) / max(high - low, 1e-9) * HEIGHT_POINTS
        kept = min(place, above - LINE_POINTS)
        shifts.append(kept - place)
        above = kept
    return shifts
