"""Two results that are not the same: what is said of them."""

from __future__ import annotations

import pytest

from humble_ledger.core.statements.ordering import OrderAsked, order_asked, showing_its_order
from humble_ledger.core.trials.differences import Row, explain_difference, explain_order
from humble_ledger.core.trials.honesty import Checked, honesty
from humble_ledger.views.wording import in_words


def rows(*texts: str) -> list[Row]:
    """Rows of "a|b", with ~ for NULL."""
    return [
        tuple(None if part == "~" else part.encode() for part in text.split("|")) for text in texts
    ]


@pytest.mark.parametrize(
    ("before", "after", "same", "words"),
    [
        (rows("1|a", "2|b"), rows("1|a"), False, "2 before, 1 after; only before: (2, b)"),
        (rows("1|a", "1|a", "2|b"), rows("1|a", "2|b"), False, "a different number of times"),
        (rows("1|a", "2|~"), rows("1|a", "2|"), False, "only before: (2, NULL); only after: (2, )"),
        (rows("1|0.30000000000000004"), rows("1|0.3"), True, "last digits of fractions"),
        (
            rows("1|1e-7", "2|2.5"),
            rows("2|2.5", "1|1.0000000000000002e-7"),
            True,
            "difference at most",
        ),
        (rows("1|0.31"), rows("1|0.3"), False, "1 of 1 rows differ"),
        (rows("1|a", "2|b"), rows("1", "2"), False, "columns differs: 2 before, 1 after"),
        (rows("1|3"), rows("1|4"), False, "1 of 1 rows differ"),
        (rows("1|nan.5"), rows("1|nan.6"), False, "1 of 1 rows differ"),
    ],
)
def test_what_differs_is_told(before: list[Row], after: list[Row], same: bool, words: str) -> None:
    found = explain_difference(before, after, OrderAsked())
    assert found.same is same
    assert words in in_words(found.reason)


def test_ties_at_a_limit_are_recognised_and_still_no_equality() -> None:
    before, after = rows("k|1", "k|2"), rows("k|1", "k|3")
    limited = OrderAsked((0,), limited=True)
    found = explain_difference(before, after, limited)
    assert not found.same and found.reason.key == "ties-differ"
    other = explain_difference(before, rows("k|1", "m|3"), limited)
    assert other.reason.key != "ties-differ"
    # Of one text on both sides that says nothing against the change.
    assert explain_difference(before, after, limited, one_text=True).same
    hidden = OrderAsked(limited=True, terms=("rank",))
    assert explain_difference(before, after, hidden, one_text=True, ties=True).same
    assert not explain_difference(before, after, hidden, one_text=True).same


def test_any_rows_will_do_where_no_order_is_asked_for() -> None:
    before, after = rows("k|1", "k|2"), rows("k|1", "k|3")
    some = OrderAsked(limited=True)
    assert explain_difference(before, after, some, one_text=True).same
    assert not explain_difference(before, after, some).same  # another text may mean others
    assert not explain_difference(before, after, OrderAsked(), one_text=True).same
    assert not explain_difference(before, before[:1], some, one_text=True).same


@pytest.mark.parametrize(
    ("sql", "shown"),
    [
        ("SELECT id FROM t ORDER BY rank DESC LIMIT 5",
         "SELECT rank AS humble_key_0 FROM t ORDER BY rank DESC LIMIT 5"),
        ("SELECT id FROM t ORDER BY lower(a), b LIMIT 5",
         "SELECT LOWER(a) AS humble_key_0, b AS humble_key_1 FROM t ORDER BY LOWER(a), b LIMIT 5"),
        ("SELECT id AS rank FROM t ORDER BY rank LIMIT 5", ""),  # which of the two is not clear
        ("SELECT DISTINCT id FROM t ORDER BY 1 LIMIT 5", ""),
        ("SELECT kind, count(*) FROM t GROUP BY kind ORDER BY kind LIMIT 5", ""),
        ("SELECT id FROM t LIMIT 5", ""),
        ("not SQL (", ""),
    ],
)  # fmt: skip
def test_what_rows_are_ordered_by_can_be_shown_alone(sql: str, shown: str) -> None:
    found = showing_its_order(sql)
    assert found.replace(" NULLS LAST", "").replace(" NULLS FIRST", "") == shown


def test_private_rows_are_not_quoted() -> None:
    found = explain_difference(rows("secret"), rows("other"), OrderAsked(), show=False)
    assert "secret" not in str(found.reason) and "'other'" not in str(found.reason)


@pytest.mark.parametrize(
    ("sql", "asked"),
    [
        ("SELECT a, b FROM t ORDER BY b, 1 LIMIT 3", OrderAsked((1, 0), True)),
        ("SELECT a AS x FROM t ORDER BY x", OrderAsked((0,))),
        ("SELECT a FROM t ORDER BY c LIMIT 1", OrderAsked((), True)),
        ("SELECT a FROM t", OrderAsked()),
        ("not sql at all (", OrderAsked()),
    ],
)
def test_the_order_asked_for_is_read(sql: str, asked: OrderAsked) -> None:
    found = order_asked(sql)
    assert (found.places, found.limited) == (asked.places, asked.limited)


def test_the_places_of_all_columns_of_one_table_are_known_to_its_server() -> None:
    found = order_asked(
        "SELECT * FROM port.boat ORDER BY name LIMIT 3", columns_of=lambda table: ["id", "name"]
    )
    assert found.places == (1,) and found.limited
    joined = "SELECT * FROM boat, pier ORDER BY name LIMIT 3"
    assert order_asked(joined, columns_of=lambda _: ["name"]).places == ()


def test_predictions_are_judged_by_their_ratio() -> None:
    checked = [Checked("t1", "r1", "q1", "formula", 100.0, p, 10.0) for p in (10.0, 11.0, 20.0)]
    found = honesty(checked)
    assert found.median_ratio == pytest.approx(1.1)
    assert found.near_share == pytest.approx(2 / 3)
    assert honesty([]).median_ratio is None
    # That nothing changes is easily foretold; that it would, and did not, is an error.
    idle = Checked("t1", "r1", "q2", "formula", 50.0, 50.0, 50.0)
    missed = Checked("t1", "r1", "q3", "formula", 50.0, 50.0, 5.0)
    with_idle = honesty([*checked, idle])
    assert (with_idle.median_ratio, with_idle.near_share) == (found.median_ratio, found.near_share)
    assert with_idle.unchanged == (idle,)
    assert honesty([*checked, missed]).near_share == 0.5


OLD = "SELECT a, b FROM t ORDER BY a"


@pytest.mark.parametrize(
    ("before", "after", "old", "new", "same"),
    [
        (rows("1|a", "1|b", "2|c"), rows("1|b", "1|a", "2|c"), OLD, OLD, True),
        (rows("1|a", "2|b"), rows("2|b", "1|a"), OLD, OLD + " DESC", False),
        (rows("1|a", "2|b"), rows("2|b", "1|a"), OLD, "SELECT a, b FROM t", False),
        # What is ordered by is not shown: the texts must ask for the same.
        (rows("a", "b"), rows("b", "a"), "SELECT b FROM t ORDER BY a",
         "SELECT b FROM t WHERE true ORDER BY a", True),
        (rows("a", "B"), rows("B", "a"), 'SELECT b FROM t ORDER BY b COLLATE "C"',
         "SELECT b FROM t ORDER BY b", False),
        (rows("a", "b"), rows("b", "a"), "SELECT b FROM t ORDER BY a", "SELECT b FROM t", False),
    ],
)  # fmt: skip
def test_another_order_is_only_the_same_where_ties_change_places(
    before: list[Row], after: list[Row], old: str, new: str, same: bool
) -> None:
    found = explain_order(before, after, order_asked(old), order_asked(new))
    assert found.same is same
    assert found.reason.key.startswith("another-order") is not same
