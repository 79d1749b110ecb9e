"""An estimate taken apart, and where values fall among the statistics."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_ledger.core.estimates.chain import chain_of
from humble_ledger.core.estimates.distribution import PlaceKind, place_of, spread_of
from humble_ledger.core.estimates.known_values import ColumnValues
from humble_ledger.core.estimates.position import before, literal_of, part_below
from tests.core.remedies.test_prediction import ALERT

ALONE = {"kind": 6_000.0, "crew": 1_500.0}


def ask(conditions: Sequence[str]) -> float | None:
    if len(conditions) > 1:
        return 150.0
    return ALONE.get(conditions[0])


def test_a_chain_shows_each_condition_alone_and_all_together() -> None:
    chain = chain_of("alert", 60_000, ["kind", "crew"], 1_500.0, ask)
    assert chain is not None
    assert [link.share for link in chain.links] == [0.1, 0.025]
    assert chain.product == pytest.approx(0.0025)
    assert chain.multiplied
    assert chain.narrowest.condition == "crew"


def test_a_chain_is_not_multiplied_when_the_planner_knows_better() -> None:
    chain = chain_of("alert", 60_000, ["kind", "crew"], 1_500.0, lambda c: ask(c[:1]))
    assert chain is not None
    assert not chain.multiplied


@pytest.mark.parametrize("conditions", [[], ["kind", "unknown"], ["kind"] * 7])
def test_what_cannot_be_asked_has_no_chain(conditions: list[str]) -> None:
    assert chain_of("alert", 60_000, conditions, None, ask) is None


@pytest.mark.parametrize(
    ("sql", "value"),
    [("'it''s'::text", "it's"), ("17", "17"), ("-2.5", "-2.5"), ("$1", None), ("now()", None)],
)
def test_literals_are_read_from_conditions(sql: str, value: str | None) -> None:
    assert literal_of(sql) == (value if sql != "$1" else "1")


def test_numbers_come_in_the_order_of_numbers_and_times_in_that_of_their_text() -> None:
    assert before("9", "10")
    assert not before("b", "a")
    assert before("2026-01-09 00:00:00+00", "2026-01-10 00:00:00+00")


@given(
    st.lists(st.integers(-1000, 1000), min_size=2, max_size=30, unique=True),
    st.integers(-1200, 1200),
)
def test_the_part_below_a_value_rises_from_0_to_1(bounds: list[int], value: int) -> None:
    edges = [str(each) for each in sorted(bounds)]
    part = part_below(str(value), edges)
    assert part is not None
    assert 0.0 <= part <= 1.0
    above = part_below(str(value + 1), edges)
    assert above is not None
    assert above >= part


VALUES = ColumnValues((("7", 0.2), ("61", 0.1)), tuple(str(n) for n in range(0, 101, 10)))


@pytest.mark.parametrize(
    ("value", "kind"),
    [
        ("7", PlaceKind.LISTED),
        ("7.0", PlaceKind.LISTED),
        ("50", PlaceKind.INSIDE),
        ("-1", PlaceKind.BELOW),
        ("101", PlaceKind.ABOVE),
    ],
)
def test_a_value_falls_somewhere(value: str, kind: PlaceKind) -> None:
    assert place_of(value, VALUES).kind is kind


@pytest.mark.parametrize(
    ("bounds", "even"),
    [
        ([str(n * n) for n in range(30)], True),
        (["2026-01-01 00:00:00+00", "2026-02-01 00:00:00+00", "2026-06-01 12:00:00+00"], True),
        (["2026-01-01", "2026-02-01", "2026-06-01"], True),
        ([f"E-{n}" for n in range(1000, 1100)], False),
        (["a", "b"], False),
    ],
)
def test_a_spread_has_all_rows_that_are_not_listed(bounds: list[str], even: bool) -> None:
    column = replace(ALERT.columns["code"], common_share=0.3, null_share=0.1)
    spread = spread_of(column, ColumnValues((), tuple(bounds)))
    assert spread.even_width is even
    assert sum(each.share for each in spread.bins) == pytest.approx(0.6)
    assert spread.bins and all(each.share >= 0 for each in spread.bins)


def test_without_a_histogram_there_is_no_spread() -> None:
    assert spread_of(ALERT.columns["code"], ColumnValues()).bins == ()
    assert place_of("5", ColumnValues()).kind is PlaceKind.UNKNOWN
