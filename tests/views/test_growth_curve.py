"""The line of a query's growth in a report."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from humble_ledger.core.results.growth import GrowthCurve
from humble_ledger.views.report.growth_curve import HEIGHT, WIDTH, growth_line

costs = st.lists(st.floats(0, 1e12), min_size=1, max_size=9)


@given(costs, st.floats(1.0, 1e6), st.lists(st.floats(0, 1), max_size=3))
def test_everything_is_within_the_drawing(
    found: list[float], most: float, turns: list[float]
) -> None:
    points = tuple((most ** (n / max(len(found) - 1, 1)), c) for n, c in enumerate(found))
    flips = tuple((most**turn, "a", "b") for turn in turns)
    line = growth_line(GrowthCurve((("t", most),), points, flips))
    places = [tuple(map(float, each.split(","))) for each in line.points.split()]
    assert len(places) == len(found) and len(line.flips) == len(turns)
    for x, y in [*places, *line.flips]:
        assert 0 <= x <= WIDTH and 0 <= y <= HEIGHT
    assert [x for x, _ in places] == sorted(x for x, _ in places)


def test_what_grows_in_step_with_the_rows_is_a_straight_line() -> None:
    points = ((1.0, 10.0), (10.0, 100.0), (100.0, 1000.0))
    line = growth_line(GrowthCurve((("t", 100.0),), points, ((10.0, "a", "b"),)))
    assert line.points == "8.0,152.0 320.0,80.0 632.0,8.0"
    assert line.flips == ((320.0, 80.0),)
