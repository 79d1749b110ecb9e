"""Plans as figures: nothing overlaps, nothing is left out, and grey tells as much as colour."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import count, pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from matplotlib.colors import to_rgb
from matplotlib.patches import FancyBboxPatch
from matplotlib.text import Text

from humble_ledger.core.plans.model import Node, Operation, Plan
from humble_ledger.views.figures.plan_figure import Flow, draw_plan, plan_figure, shade, thickness
from humble_ledger.views.figures.tree_layout import places
from humble_ledger.views.numbers import Numbers
from tests.plans import RECORDED, recorded
from tests.views.test_terminal import entry

SHAPES = st.recursive(st.just([]), lambda below: st.lists(below, max_size=4), max_leaves=25)


def tree(shape: list[object], numbers: Iterator[int]) -> Node:
    number = next(numbers)
    children = tuple(tree(each, numbers) for each in shape)  # type: ignore[arg-type]
    return Node(number, Operation.RESULT, f"Result {number}", children=children)


@given(SHAPES)
def test_no_two_steps_stand_in_one_place_and_each_stands_amid_its_inputs(shape) -> None:  # type: ignore[no-untyped-def]
    root = tree(shape, count(1))
    where = places(root)
    assert set(where) == {node.no for node in root.walk()}
    assert min(place.along for place in where.values()) == 0
    layers: dict[int, list[float]] = {}
    for place in where.values():
        layers.setdefault(place.layer, []).append(place.along)
    for along in layers.values():
        assert all(b - a >= 1 - 1e-9 for a, b in pairwise(sorted(along)))
    for node in root.walk():
        below = [where[child.no].along for child in node.children]
        if below:
            assert where[node.no].along == pytest.approx((below[0] + below[-1]) / 2)
            assert {where[child.no].layer for child in node.children} == {where[node.no].layer + 1}


@pytest.mark.parametrize("flow", list(Flow))
@pytest.mark.parametrize("path", RECORDED[::13], ids=lambda p: f"{p.parent.name}-{p.stem}")
def test_every_step_has_a_box_and_its_text_stays_inside(path: Path, flow: Flow) -> None:
    plan = recorded(int(path.parent.name), path.stem)
    figure = plan_figure(entry(plan), Numbers(), flow)
    figure.canvas.draw()
    (axes,) = figure.axes
    boxes = [each for each in axes.patches if isinstance(each, FancyBboxPatch)]
    assert len(boxes) == len(list(plan.nodes()))
    whole = figure.bbox
    for text in axes.findobj(Text):
        if text.get_text():
            extent = text.get_window_extent()
            assert extent.x0 >= whole.x0 - 1 and extent.x1 <= whole.x1 + 1, text.get_text()
    texts = [t for t in axes.texts if (t.get_gid() or "").startswith("step")]
    for box, text in zip(boxes, texts, strict=True):
        assert text.get_window_extent().width <= box.get_window_extent().width, text.get_text()
        assert text.get_window_extent().height <= box.get_window_extent().height


def test_more_time_is_darker_also_in_grey_and_more_rows_are_thicker() -> None:
    light = [sum(to_rgb(shade(share / 20))) for share in range(21)]
    assert all(a > b for a, b in pairwise(light))
    widths = [thickness(rows) for rows in (None, 1.0, 10.0, 1e4, 1e8)]
    assert widths == sorted(widths) and widths[-1] < 20


def test_a_large_plan_is_drawn_as_large_as_it_needs(tmp_path: Path) -> None:
    wide = tree([[[]] * 40, [[[]]] * 3], count(1))
    large = plan_figure(entry(Plan("made up", "1", wide, measured=False)), Numbers())
    small = plan_figure(entry(recorded(18, "nothing")), Numbers())
    assert large.get_size_inches()[1] > 4 * small.get_size_inches()[1]
    draw_plan(entry(recorded(18, "five-tables")), Numbers(), tmp_path / "a.svg")
    drawn = (tmp_path / "a.svg").read_text()
    assert "visit" in drawn and "keeper" in drawn and "share of the self time (measured)" in drawn
