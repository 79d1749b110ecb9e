"""Why a plan turned, told from the two plans."""

from __future__ import annotations

from dataclasses import replace

import pytest

from humble_ledger.core.audits.flips import Why, flipped, reasons
from humble_ledger.core.plans.model import Cost, Node, Operation, Plan
from humble_ledger.views.wording import in_words

BY_INDEX = Node(
    1, Operation.INDEX_SCAN, "Index Scan", relation="reading", index="reading_at",
    cost=Cost(0, 9), rows_expected=10,
)  # fmt: skip
WHOLE = replace(BY_INDEX, operation=Operation.FULL_SCAN, index="", cost=Cost(0, 900))
OLD = Plan("any", "15.1", BY_INDEX, measured=False, engine_settings={"cost_of_page": "1.1"})
THERE = frozenset(("reading_at",))


@pytest.mark.parametrize(
    ("new", "there", "why", "words"),
    [
        (replace(OLD, engine_version="16.0"), THERE, Why.VERSION, "was 15.1 and is 16.0"),
        (replace(OLD, engine_settings={}), THERE, Why.SETTING, "was 1.1 and is the default"),
        (OLD, frozenset[str](), Why.INDEX_GONE, "the index reading_at is gone"),
        (replace(OLD, root=replace(WHOLE, rows_expected=90_000.0)), THERE, Why.ROWS, "90,000"),
        (replace(OLD, root=WHOLE), THERE, Why.UNKNOWN, "do not show why"),
    ],
)
def test_what_differs_is_named(new: Plan, there: frozenset[str], why: Why, words: str) -> None:
    found = reasons(OLD, new, there)
    assert [each.why for each in found] == [why]
    assert words in in_words(found[0].words)


def test_an_index_that_came_is_named() -> None:
    (found,) = reasons(replace(OLD, root=WHOLE), OLD, THERE)
    assert (found.why, found.name) == (Why.INDEX_NEW, "reading_at")


def test_costs_and_rows_turn_no_plan() -> None:
    assert not flipped(OLD, replace(OLD, root=replace(BY_INDEX, rows_expected=99)))
    assert flipped(OLD, replace(OLD, root=WHOLE))
