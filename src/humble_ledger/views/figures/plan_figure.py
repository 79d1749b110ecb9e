"""A plan as a figure: rows flow along the edges from the tables to the result.

An edge is as thick as many rows flow along it, a step as dark as its self time is large. The
shades are told apart by their lightness alone, so the figure works in grey, too.
"""

from __future__ import annotations

import math
import textwrap
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING

from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.estimates.accuracy import row_error
from humble_ledger.core.plans.arithmetic import StepMetrics, accounts
from humble_ledger.core.plans.model import Node, Plan
from humble_ledger.core.statements.kinds import shorten
from humble_ledger.views.figures.saving import save
from humble_ledger.views.figures.tree_layout import Place, places
from humble_ledger.views.numbers import Numbers

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

# Light to dark; the lightness falls evenly (of a warm sand to a deep sea blue).
SHADES = ("#f6f1e3", "#d9dcc4", "#a8c3b4", "#6ba0a8", "#3b7596", "#214a78", "#13254a")
_DARK_FROM = 0.5
_LINE_LETTERS, _MOST_LINES = 26, 3
_POINTS, _LINE_INCHES = 8, 0.155
_BOX_INCHES = 1.95
_GAP_ACROSS, _GAP_DOWN = (1.0, 0.18), (0.55, 0.22)
_MARGIN_INCHES = 0.3
_HEAD_INCHES, _FOOT_INCHES = 0.75, 0.75
_LEAST_WIDTH_INCHES = 8.0
_PNG_DPI = 110
_MOST_PIXELS = 20_000
_LEGEND_ROWS = (1.0, 1e3, 1e6)


class Flow(StrEnum):
    """Which way the rows flow: from left to right, or from top to bottom."""

    ACROSS = "across"
    DOWN = "down"


@dataclass(frozen=True, slots=True)
class _Canvas:
    """Turns places into inches; the result stands where the rows flow to."""

    flow: Flow
    layers: int
    along: float
    height_inches: float

    @property
    def step(self) -> tuple[float, float]:
        """The distance between two layers, and between two steps of one layer."""
        if self.flow is Flow.ACROSS:
            return _BOX_INCHES + _GAP_ACROSS[0], self.height_inches + _GAP_ACROSS[1]
        return self.height_inches + _GAP_DOWN[0], _BOX_INCHES + _GAP_DOWN[1]

    @property
    def size(self) -> tuple[float, float]:
        """Width and height of the drawing alone, in inches."""
        between, beside = self.step
        deep, wide = (self.layers - 1) * between, self.along * beside
        if self.flow is Flow.ACROSS:
            return deep + _BOX_INCHES, wide + self.height_inches
        return wide + _BOX_INCHES, deep + self.height_inches

    def middle(self, place: Place) -> tuple[float, float]:
        """The middle of a step's box, in inches from the lower left."""
        between, beside = self.step
        flowed = (self.layers - 1 - place.layer) * between
        height = self.size[1]
        if self.flow is Flow.ACROSS:
            y = height - self.height_inches / 2 - place.along * beside
            return _BOX_INCHES / 2 + flowed, y
        return _BOX_INCHES / 2 + place.along * beside, height - self.height_inches / 2 - flowed


def draw_plan(entry: PlanEntry, numbers: Numbers, path: Path, flow: Flow = Flow.ACROSS) -> None:
    """Draw a plan into a file; its ending (.svg, .png, .pdf) tells the form.

    Raises:
        OSError: the file cannot be written.
        ValueError: Matplotlib does not know the ending.
    """
    figure = plan_figure(entry, numbers, flow)
    width, height = figure.get_size_inches()
    dpi = min(float(_PNG_DPI), _MOST_PIXELS / max(width, height))
    save(figure, path, dpi)


def plan_figure(entry: PlanEntry, numbers: Numbers, flow: Flow = Flow.ACROSS) -> Figure:
    """The figure of a plan, its text always of one size: larger plans make larger figures."""
    import matplotlib as mpl  # noqa: PLC0415 - slow to import
    from matplotlib.figure import Figure  # noqa: PLC0415

    mpl.rcParams["font.family"] = ["DejaVu Sans"]
    plan = entry.plan
    figures = accounts(plan)
    where = places(plan.root)
    texts = {n.no: _lines(plan, n, figures[n.no], numbers) for n in plan.nodes()}
    most = max(len(lines) for lines in texts.values())
    canvas = _Canvas(
        flow,
        1 + max(place.layer for place in where.values()),
        max(place.along for place in where.values()),
        most * _LINE_INCHES + 0.14,
    )
    width, height = canvas.size
    whole_width = max(width + 2 * _MARGIN_INCHES, _LEAST_WIDTH_INCHES)
    whole_height = height + _HEAD_INCHES + _FOOT_INCHES + _MARGIN_INCHES
    figure = Figure(figsize=(whole_width, whole_height), facecolor="white")
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_xlim(-(whole_width - width) / 2, width + (whole_width - width) / 2)
    axes.set_ylim(-_FOOT_INCHES - _MARGIN_INCHES / 2, height + _HEAD_INCHES + _MARGIN_INCHES / 2)
    axes.set_axis_off()
    for node in plan.nodes():
        for child in node.children:
            _edge(axes, canvas, (where[child.no], where[node.no]), child, figures, numbers)
    for node in plan.nodes():
        _box(
            axes, canvas.middle(where[node.no]), (node.no, texts[node.no]), figures[node.no], canvas
        )
    _head(axes, entry, numbers, (width - whole_width) / 2 + _MARGIN_INCHES, height)
    _legend(axes, plan, numbers, (width - whole_width) / 2 + _MARGIN_INCHES)
    return figure


def shade(share: float) -> str:
    """The colour for a share of the time: ever darker, most quickly where shares are small."""
    from matplotlib.colors import LinearSegmentedColormap, to_hex  # noqa: PLC0415

    ramp = LinearSegmentedColormap.from_list("time", SHADES)
    return str(to_hex(ramp(math.sqrt(max(0.0, min(1.0, share))))))


def thickness(rows: float | None) -> float:
    """The width of an edge in points: one more for each tenfold of its rows, and a bit."""
    return 0.7 + 1.6 * math.log10(1.0 + rows) if rows else 0.7


def _lines(plan: Plan, node: Node, account: StepMetrics, numbers: Numbers) -> list[str]:
    """The text of a step's box: what it does, on what, and what it takes."""
    first = f"{node.no}  {node.label}"
    if node.subplan_name:
        first = f"{node.no}  {node.subplan_name}: {node.label}"
    lines = textwrap.wrap(first, _LINE_LETTERS, subsequent_indent="    ")[:_MOST_LINES]
    what = node.relation or node.alias
    if node.relation and node.alias and node.alias != node.relation:
        what = f"{node.relation} {node.alias}"
    if node.index:
        what = f"{what} by {node.index}" if what else node.index
    lines += textwrap.wrap(what, _LINE_LETTERS, subsequent_indent="    ")
    if plan.steps_measured and node.never_ran:
        lines.append("never ran")
    elif plan.steps_measured:
        lines.append(f"{numbers.ms(account.self_ms)}, {numbers.percent(account.self_share)}")
    else:
        lines.append(
            f"cost {numbers.figure(account.self_cost)}, {numbers.percent(account.self_share)}"
        )
    return lines


def _rows(node: Node, account: StepMetrics) -> float | None:
    """The rows that flow out of a step in all: seen, else expected."""
    return account.rows if node.loops is not None else node.rows_expected


def _flowing(node: Node, account: StepMetrics, numbers: Numbers) -> str:
    rows = _rows(node, account)
    if rows is None or node.never_ran:
        return ""
    if node.loops is None:
        return f"{numbers.rows(rows)} expected"
    text = numbers.rows(rows)
    error = row_error(node)
    if error is not None and error.far_off and node.rows_expected is not None:
        text += f"\n({numbers.rows(node.rows_expected * (node.loops or 1))} expected)"
    return text


def _edge(
    axes: Axes,
    canvas: _Canvas,
    ends: tuple[Place, Place],
    child: Node,
    figures: dict[int, StepMetrics],
    numbers: Numbers,
) -> None:
    from matplotlib.patches import PathPatch  # noqa: PLC0415
    from matplotlib.path import Path as Curve  # noqa: PLC0415

    (x0, y0), (x1, y1) = (canvas.middle(end) for end in ends)
    if canvas.flow is Flow.ACROSS:
        x0, x1 = x0 + _BOX_INCHES / 2, x1 - _BOX_INCHES / 2
        between = ((x0 + x1) / 2, y0), ((x0 + x1) / 2, y1)
    else:
        y0, y1 = y0 - canvas.height_inches / 2, y1 + canvas.height_inches / 2
        between = (x0, (y0 + y1) / 2), (x1, (y0 + y1) / 2)
    rows = _rows(child, figures[child.no])
    width = thickness(rows)
    curve = Curve(
        [(x0, y0), *between, (x1, y1)], [Curve.MOVETO, Curve.CURVE4, Curve.CURVE4, Curve.CURVE4]
    )
    style = (0, (2, 2)) if child.never_ran else "solid"
    axes.add_patch(
        PathPatch(
            curve, fill=False, linewidth=width, edgecolor="#8a9099", linestyle=style,
            capstyle="butt", zorder=1,
        )
    )  # fmt: skip
    text = _flowing(child, figures[child.no], numbers)
    # The label stands on the side from which the edge turns away.
    away = 0.05 + width / 144
    if canvas.flow is Flow.ACROSS:
        x, y, ha = x0 + 0.06, (y0 - away if y1 > y0 else y0 + away), "left"
        va = "top" if y1 > y0 else "bottom"
    else:
        x, y, va = (x0 - away if x1 > x0 else x0 + away), y0 - 0.06, "top"
        ha = "right" if x1 > x0 else "left"
    axes.text(
        x, y, text, fontsize=_POINTS - 1, color="#33383f", va=va, ha=ha, zorder=4,
        linespacing=1.05, fontweight="bold" if "\n" in text else "normal",
    )  # fmt: skip


def _box(
    axes: Axes,
    middle: tuple[float, float],
    step: tuple[int, list[str]],
    account: StepMetrics,
    canvas: _Canvas,
) -> None:
    from matplotlib.patches import FancyBboxPatch  # noqa: PLC0415

    x, y = middle
    number, lines = step
    colour = shade(account.self_share)
    dark = math.sqrt(max(account.self_share, 0.0)) > _DARK_FROM
    axes.add_patch(
        FancyBboxPatch(
            (x - _BOX_INCHES / 2 + 0.04, y - canvas.height_inches / 2 + 0.04),
            _BOX_INCHES - 0.08, canvas.height_inches - 0.08,
            boxstyle="round,pad=0.04,rounding_size=0.06", facecolor=colour,
            edgecolor="#5b626c", linewidth=0.8, zorder=2,
        )
    )  # fmt: skip
    axes.text(
        x - _BOX_INCHES / 2 + 0.1, y, "\n".join(lines), fontsize=_POINTS, va="center", ha="left",
        color="white" if dark else "#16191d", zorder=3, linespacing=1.25,
        gid=f"step-{number}",
    )  # fmt: skip


def _head(axes: Axes, entry: PlanEntry, numbers: Numbers, left: float, top: float) -> None:
    plan = entry.plan
    name = f"{entry.id} of {entry.query}" if entry.query else entry.id
    took = (
        f"{numbers.ms(plan.execution_ms)} for {numbers.count(_whole(plan), 'rows')} (measured)"
        if plan.steps_measured and plan.execution_ms is not None
        else f"cost {numbers.figure(plan.cost_total)} (estimated)"
    )
    server = f"{plan.engine} {plan.engine_version}".strip()
    axes.text(
        left, top + _HEAD_INCHES, f"Plan {name}: {took}, {server}", fontsize=11, va="top",
        fontweight="bold", color="#16191d",
    )  # fmt: skip
    letters = int((axes.get_xlim()[1] - left - _MARGIN_INCHES) * 15)
    statement = shorten(entry.statement, letters)
    axes.text(left, top + _HEAD_INCHES - 0.26, statement, fontsize=8, va="top", color="#4a5058")


def _whole(plan: Plan) -> int:
    return round((plan.root.rows_seen or 0.0) * (plan.root.loops or 0.0))


def _legend(axes: Axes, plan: Plan, numbers: Numbers, left: float) -> None:
    """What the shades and the thicknesses mean."""
    from matplotlib.patches import Rectangle  # noqa: PLC0415

    y = -_FOOT_INCHES + 0.22
    what = "self time (measured)" if plan.steps_measured else "self cost (estimated)"
    axes.text(left, y + 0.26, f"share of the {what}", fontsize=7.5, color="#4a5058")
    for place, share in enumerate((0.0, 0.02, 0.1, 0.25, 0.5, 0.75, 1.0)):
        x = left + place * 0.36
        axes.add_patch(
            Rectangle(
                (x, y), 0.36, 0.18, facecolor=shade(share), edgecolor="#5b626c", linewidth=0.5
            )
        )
        axes.text(
            x + 0.18, y - 0.04, numbers.percent(share, 0), fontsize=6.5, ha="center", va="top",
            color="#4a5058",
        )  # fmt: skip
    start = left + 3.1
    said = "rows in all" if plan.steps_measured else "rows expected"
    axes.text(start, y + 0.26, f"{said} that flow along", fontsize=7.5, color="#4a5058")
    for place, rows in enumerate(_LEGEND_ROWS):
        x = start + place * 0.85
        axes.plot(
            [x, x + 0.5], [y + 0.1, y + 0.1], color="#8a9099", linewidth=thickness(rows),
            solid_capstyle="butt",
        )  # fmt: skip
        axes.text(
            x + 0.25, y - 0.04, numbers.whole(rows), fontsize=6.5, ha="center", va="top",
            color="#4a5058",
        )  # fmt: skip
