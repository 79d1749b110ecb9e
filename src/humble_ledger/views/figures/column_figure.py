"""A column's values as a figure: the common ones, the spread of the others, and what is asked."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from humble_ledger.core.estimates.distribution import PlaceKind, rest_share, spread_of
from humble_ledger.core.results.reports import ColumnReport
from humble_ledger.core.statements.plainly import plainly
from humble_ledger.views.escaping import escaped_line
from humble_ledger.views.figures.saving import save
from humble_ledger.views.numbers import Numbers

if TYPE_CHECKING:
    from matplotlib.axes import Axes

SAND, SEA, DEEP = "#d9c79a", "#3b7596", "#13254a"
MOST_VALUES = 15
_SIZE_INCHES = (10.5, 4.8)
_DPI = 110
# Values beyond the statistics stand beside the bars, so many bins away.
_BESIDE = {PlaceKind.ABOVE: 0.4, PlaceKind.BELOW: -0.4}


def draw_column(found: ColumnReport, numbers: Numbers, path: Path) -> None:
    """Draw a column's statistics into an SVG, PNG or PDF file.

    Raises:
        ValueError: the file's ending is unknown, or there is nothing to draw.
        OSError: the file cannot be written.
    """
    import matplotlib as mpl  # noqa: PLC0415 - slow to import
    from matplotlib.figure import Figure  # noqa: PLC0415

    spread = spread_of(found.column, found.values)
    both = bool(found.values.common) and bool(spread.bins)
    if not found.values.common and not spread.bins:
        raise ValueError("no statistics")
    with mpl.rc_context({"font.size": 9, "svg.fonttype": "none", "font.family": "DejaVu Sans"}):
        figure = Figure(figsize=_SIZE_INCHES, layout="constrained")
        widths = (2, 3) if both else (1,)
        axes = figure.subplots(1, len(widths), squeeze=False, width_ratios=widths)
        name = f"{found.table.name}.{found.column.name}"
        figure.suptitle(
            f"{name}: {found.column.type_name}, {numbers.whole(found.table.rows)} rows (estimated)",
            x=0.01, ha="left", fontsize=11,
        )  # fmt: skip
        drawn = iter(axes[0])
        if found.values.common:
            _draw_common(next(drawn), found)
        if spread.bins:
            _draw_spread(next(drawn), found, numbers)
        save(figure, path, _DPI)


def _draw_common(axes: Axes, found: ColumnReport) -> None:
    common = found.values.common[:MOST_VALUES]
    places = range(len(common))
    counted = dict(found.counts.common) if found.counts is not None else {}
    axes.barh(places, [100 * share for _, share in common], color=SAND, label="estimated")
    if found.counts is not None:
        rows = max(found.counts.rows, 1)
        known = [(n, 100 * counted[v] / rows) for n, (v, _) in enumerate(common) if v in counted]
        axes.plot(
            [share for _, share in known], [n for n, _ in known], "|", color=DEEP, markersize=11,
            markeredgewidth=2, label="counted",
        )  # fmt: skip
        axes.legend(frameon=False, loc="lower right")
    axes.set_yticks(list(places), [_short(value) for value, _ in common])
    axes.invert_yaxis()
    axes.set_xlabel("% of all rows")
    left = len(found.values.common) - len(common)
    more = f", the first {len(common)} of {len(common) + left}" if left > 0 else ""
    axes.set_title(f"common values{more}", loc="left", fontsize=9)
    _bare(axes)


def _draw_spread(axes: Axes, found: ColumnReport, numbers: Numbers) -> None:
    spread = spread_of(found.column, found.values)
    heights = [100 * each.share for each in spread.bins]
    axes.bar(range(len(heights)), heights, width=0.96, align="edge", color=SEA)
    edges = [each.low for each in spread.bins] + [spread.bins[-1].high]
    shown = range(0, len(edges), max(1, len(edges) // 5))
    axes.set_xticks(list(shown), [_short(edges[n]) for n in shown], rotation=15, ha="right")
    axes.set_ylabel("% of all rows")
    values = "all other values" if found.values.common else "values"
    tenths = "" if spread.even_width else ", in tenths of these rows"
    axes.set_title(
        f"{values}, {numbers.share(rest_share(found.column))} of the rows{tenths}",
        loc="left", fontsize=9,
    )  # fmt: skip
    _mark_asked(axes, found, heights)
    _bare(axes)


def _mark_asked(axes: Axes, found: ColumnReport, heights: list[float]) -> None:
    """A line where each value asked for lies, with the rows that are estimated and counted."""
    whole = sum(heights) or 1.0
    top = max(heights) * 1.05
    for number, each in enumerate(found.asked):
        if each.place.kind not in (PlaceKind.INSIDE, PlaceKind.ABOVE, PlaceKind.BELOW):
            continue
        place = _place(each.place.share or 0.0, [height / whole for height in heights])
        place += _BESIDE.get(each.place.kind, 0.0)
        axes.axvline(place, color=DEEP, linewidth=1.5, linestyle=(0, (4, 2)))
        told = f"{plainly(each.condition)}\n"
        told += f"{each.rows_estimated or 0:,.0f} rows estimated"
        if each.rows_counted is not None:
            told += f", {each.rows_counted:,} counted"
        right = place > len(heights) / 2
        axes.annotate(
            told, (place, top * (1.0 + 0.14 * number)), xytext=(-4 if right else 4, 0),
            textcoords="offset points", ha="right" if right else "left", va="bottom", color=DEEP,
        )  # fmt: skip
    if found.asked:
        axes.set_ylim(0, top * (1.2 + 0.14 * len(found.asked)))


def _place(below: float, shares: list[float]) -> float:
    """The place on the axis, in bins, below which this share of the rows lies."""
    passed = 0.0
    for number, share in enumerate(shares):
        if share > 0 and below <= passed + share:
            return number + (below - passed) / share
        passed += share
    return float(len(shares))


def _bare(axes: Axes) -> None:
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)


def _short(value: str) -> str:
    value = escaped_line(value)  # ticks make their texts anew when they are drawn
    return value if len(value) <= 18 else value[:17] + "…"
