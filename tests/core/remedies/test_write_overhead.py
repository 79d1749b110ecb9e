"""What writers pay for an index, how long building takes, and what an index is called."""

from __future__ import annotations

from dataclasses import replace

import pytest

from humble_ledger.core.remedies.building import Build, build_range_ms
from humble_ledger.core.remedies.index_text import parse_index
from humble_ledger.core.remedies.naming import index_name, pattern_fault
from humble_ledger.core.remedies.write_overhead import SeenUpdate, entries_now, write_overhead_of
from humble_ledger.core.schema.facts import Writes
from tests.core.remedies.test_prediction import ALERT

# Three indexes; 1,000 rows inserted, 500 updated, of which 400 stayed in their page.
TABLE = replace(ALERT, writes=Writes(inserted=1_000, updated=500, updated_in_page=400))


def test_an_index_is_written_for_each_row_that_is_new_or_moved() -> None:
    assert entries_now(TABLE) == 1_500 + 3 * 1_100
    found = write_overhead_of(TABLE, parse_index("alert (status)", "public"), 1.0)
    assert found.entries_added == 1_100
    assert found.grows_by == pytest.approx(1_100 / 4_800)
    few = write_overhead_of(
        TABLE, parse_index("alert (buoy_id) where status = 'open'", "public"), 0.05
    )
    assert few.entries_added == pytest.approx(55)


def test_updates_of_its_columns_no_longer_stay_in_their_page() -> None:
    updates = [
        SeenUpdate("q7", "alert", frozenset({"status"}), 30),
        SeenUpdate("q8", "public.alert", frozenset({"crew"}), 10),
        SeenUpdate("q9", "visit", frozenset({"status"}), 99),
    ]
    found = write_overhead_of(TABLE, parse_index("alert (status)", "public"), 1.0, updates)
    assert found.ends_in_page == ("q7",)
    # Three quarters of the updates in a page are written to four indexes from now on.
    assert found.entries_added == 1_100 + 4 * 300
    bound = write_overhead_of(
        TABLE, parse_index("alert (buoy_id) where crew = 'x'", "public"), 0.1, updates
    )
    assert bound.ends_in_page == ("q8",)


def test_building_is_reckoned_from_builds_that_were_measured() -> None:
    low, high, measured = build_range_ms(1e6)
    assert not measured and 0 < low < high
    near, far, measured = build_range_ms(2e6, [Build(1e6, 500.0), Build(10, 9e9)])
    assert measured and near < 2 * 500 < far


@pytest.mark.parametrize(
    ("index", "pattern", "name"),
    [
        ("alert (kind, code)", "{table}_{columns}_idx", "alert_kind_code_idx"),
        ("alert (kind) include (code)", "ix_{table}_{columns}", "ix_alert_kind_code"),
        ("alert (a) where b = 1", "{table}_{columns}_idx", "alert_a_where_b_idx"),
        ("alert (lower(kind))", "{columns}__{method}", "lower_kind__btree"),
        (f"alert ({'x' * 80})", "{table}_{columns}_idx", f"alert_{'x' * 53}_idx"),
    ],
)
def test_names_follow_a_pattern_and_fit(index: str, pattern: str, name: str) -> None:
    assert index_name(parse_index(index, "public"), pattern) == name
    assert index_name(parse_index(index, "public"), pattern, {name}) != name


@pytest.mark.parametrize(
    ("pattern", "fault"),
    [
        ("{columns}", ""),
        ("{colour}_{columns}", 'no part "colour"'),
        ("ix", "one name"),
        ("{columns", "expected '}'"),
    ],
)
def test_what_is_wrong_with_a_pattern_is_told(pattern: str, fault: str) -> None:
    assert fault in pattern_fault(pattern) and bool(fault) == bool(pattern_fault(pattern))
