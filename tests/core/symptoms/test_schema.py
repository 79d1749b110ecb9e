"""Symptoms of a schema: each with cases that must fire and look-alikes."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest

from humble_ledger.core.messages import Message
from humble_ledger.core.schema.facts import (
    ForeignKey,
    IndexFacts,
    IndexKey,
    Reads,
    TableFacts,
    TableName,
    Writes,
)
from humble_ledger.core.symptoms.in_schema.foreign_keys import foreign_key_symptoms
from humble_ledger.core.symptoms.in_schema.indexes import (
    CapturedUse,
    index_symptoms,
    merged_into,
)
from humble_ledger.core.symptoms.in_schema.registry import schema_symptoms
from humble_ledger.core.symptoms.in_schema.statistics import statistics_symptoms
from humble_ledger.core.symptoms.model import Symptom
from humble_ledger.engines.postgresql.dialect import POSTGRESQL
from humble_ledger.views.wording import in_words
from tests.core.remedies.test_prediction import ALERT, VISIT

NOW = datetime(2026, 7, 1, 12, 0, tzinfo=UTC)


def index(name: str, *keys: str, **facts: object) -> IndexFacts:
    known: dict[str, object] = {"pages": 100, "size_bytes": 819200, "scans": 5}
    made = tuple(IndexKey(*key.split(" ")) if " " not in key else _key(key) for key in keys)
    return IndexFacts(name, "btree", made, **{**known, **facts})  # type: ignore[arg-type]


def _key(text: str) -> IndexKey:
    column, trait = text.split(" ")
    if trait == "desc":
        return IndexKey(column, descending=True)
    return IndexKey(column, operator_class=trait)


def table(*indexes: IndexFacts, since_days: float = 30, **facts: object) -> TableFacts:
    known: dict[str, object] = {
        "reads": Reads(full_scans=3, index_scans=7),
        "writes": Writes(inserted=1000, updated=300, updated_in_page=100),
        "counted_since": NOW - timedelta(days=since_days),
    }
    return replace(ALERT, indexes=indexes, **{**known, **facts})  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("indexes", "expected"),
    [
        ([index("one", "code"), index("two", "code")], {("two", "duplicate-index")}),
        ([index("one", "code"), index("two", "code", unique=True)], {("one", "duplicate-index")}),
        ([index("one", "code"), index("two", "code", "kind")], {("one", "redundant-index")}),
        ([index("one", "code"), index("two", "kind", "code")], set()),
        ([index("one", "code"), index("two", "code desc")], set()),
        ([index("one", "code"), index("two", "code text_pattern_ops")], set()),
        ([index("one", "code"), index("two", "code", predicate="(kind = 'ice')")], set()),
        ([index("one", "code", unique=True), index("two", "code", "kind")], set()),
        ([index("one", "code", included=("kind",)), index("two", "code", "crew")], set()),
        ([index("one", "code"), index("two", "code", included=("kind",))],
         {("one", "duplicate-index")}),
        ([index("one", "code", scans=0)], {("one", "unused-index")}),
        ([index("one", "code", scans=0, pages=2)], set()),
        ([index("one", "code", scans=0, unique=True)], set()),
        ([index("one", "code", scans=0, constraint=True)], set()),
        ([index("one", "code", scans=None)], set()),
        ([index("one", "code", valid=False, scans=0)], {("one", "invalid-index")}),
        ([index("one", "code"), index("two", "code", valid=False)], {("two", "invalid-index")}),
        ([index("one", "code"), index("two", "code"), index("three", "code")],
         {("two", "duplicate-index"), ("three", "duplicate-index")}),
    ],
)  # fmt: skip
def test_indexes_that_cost_for_nothing(
    indexes: list[IndexFacts], expected: set[tuple[str, str]]
) -> None:
    found = list(index_symptoms(table(*indexes), NOW))
    assert {(s.subject.split(".")[-1], s.name) for s in found} == expected


def since(symptom: Symptom) -> float:
    """For how many minutes it was counted."""
    what = symptom.summary.arguments["what"]
    assert isinstance(what, Message) and isinstance(what.arguments["since"], Message)
    return float(str(what.arguments["since"].arguments["minutes"]))


def test_an_unused_index_tells_of_its_writes_and_of_the_time_it_was_watched() -> None:
    (short,) = index_symptoms(table(index("one", "code", scans=0), since_days=0.25), NOW)
    assert since(short) == pytest.approx(6 * 60)
    assert short.summary.arguments["written"] == 1_200
    assert short.cause.detail.arguments["long_enough"] is False
    (long,) = index_symptoms(table(index("one", "code", scans=0), since_days=40), NOW)
    assert since(long) == pytest.approx(40 * 24 * 60)
    assert long.cause.detail.arguments["long_enough"] is True


def test_what_a_captured_plan_uses_is_not_called_unused() -> None:
    unused = table(index("one", "code", scans=0))
    used = CapturedUse({unused.name: 1}, frozenset({(unused.name, "one")}), complete=False)
    assert list(index_symptoms(unused, NOW, used)) == []
    assert list(index_symptoms(unused, NOW, replace(used, indexes=frozenset())))
    # Where the server counts nothing, a query without a plan leaves all open.
    uncounted = table(index("one", "code", scans=None), counted=False)
    many = CapturedUse({uncounted.name: 9}, frozenset(), complete=False)
    assert list(index_symptoms(uncounted, NOW, many)) == []
    assert list(index_symptoms(uncounted, NOW, replace(many, complete=True)))


def test_of_a_table_nobody_read_no_index_is_called_unused() -> None:
    few = table(index("one", "code", scans=0), reads=Reads(full_scans=3, index_scans=2))
    assert not list(index_symptoms(few, NOW))
    quiet = table(index("one", "code", scans=0), reads=Reads())
    assert list(index_symptoms(quiet, NOW)) == []


def test_an_index_is_merged_into_the_one_that_serves_all_it_serves() -> None:
    small, large = index("small", "code"), index("large", "code", "kind")
    facts = table(small, large)
    assert merged_into(facts, small) is large
    assert merged_into(facts, large) is None


KEY = ForeignKey("visit_buoy", ("buoy_id",), TableName("public", "alert"), ("buoy_id",))


@pytest.mark.parametrize(
    ("indexes", "gone"),
    [
        # The one that serves in place of another stays, used or not.
        ([index("one", "buoy_id", scans=0), index("two", "buoy_id", "code", scans=0)], {"one"}),
        # The last one by which a foreign key finds its rows stays: deletes come one day.
        ([index("one", "buoy_id", "code", scans=0)], set()),
        ([index("one", "buoy_id", "code", scans=0), index("two", "buoy_id", "kind", scans=0)],
         {"one"}),
        ([index("one", "buoy_id", scans=0, predicate="(kind = 'ice')"),
          index("two", "buoy_id", "kind", scans=0)], {"one"}),
        ([index("one", "code", "buoy_id", scans=0)], {"one"}),
    ],
)  # fmt: skip
def test_what_is_told_to_go_can_go_together(indexes: list[IndexFacts], gone: set[str]) -> None:
    found = index_symptoms(table(*indexes, foreign_keys=(KEY,)), NOW)
    assert {s.subject.split(".")[-1] for s in found} == gone


@pytest.mark.parametrize(
    ("indexes", "deleted", "joined", "fires"),
    [
        ((), 5, set(), True),
        ((), 0, {(VISIT.name, "buoy_id")}, True),
        ((), 0, {(VISIT.name, "keeper_id")}, False),
        ((), 0, set(), False),
        ((index("one", "buoy_id"),), 5, set(), False),
        ((index("one", "buoy_id", "visit_id"),), 5, set(), False),
        ((index("one", "visit_id", "buoy_id"),), 5, set(), True),
        ((index("one", "buoy_id", predicate="(visit_id > 5)"),), 5, set(), True),
    ],
)
def test_foreign_keys_without_index_where_deletes_or_joins_hurt(
    indexes: tuple[IndexFacts, ...],
    deleted: int,
    joined: set[tuple[TableName, str]],
    fires: bool,
) -> None:
    child = replace(VISIT, indexes=indexes, foreign_keys=(KEY,))
    parent = replace(ALERT, writes=Writes(deleted=deleted))
    found = list(foreign_key_symptoms(child, {parent.name: parent}, joined))
    assert [s.name for s in found] == (["foreign-key-without-index"] if fires else [])


def test_small_tables_are_read_as_fast_without_an_index() -> None:
    child = replace(VISIT, indexes=(), foreign_keys=(KEY,), pages=3)
    parent = replace(ALERT, writes=Writes(deleted=5))
    assert not list(foreign_key_symptoms(child, {parent.name: parent}, set()))


@pytest.mark.parametrize(
    ("changes", "expected"), [(0, []), (5_999, []), (6_001, ["statistics-stale"]), (None, [])]
)
def test_statistics_are_stale_when_a_tenth_changed(
    changes: int | None, expected: list[str]
) -> None:
    facts = replace(ALERT, changes_since_analyze=changes, analyzed_at=NOW)
    assert [s.name for s in statistics_symptoms(facts, set())] == expected


def test_statistics_are_stale_from_where_the_server_itself_would_act() -> None:
    facts = replace(ALERT, changes_since_analyze=2_000, analyzed_at=NOW)
    assert not facts.is_stale
    assert replace(facts, stale_after_changes=1_500.0).is_stale
    assert not replace(facts, changes_since_analyze=9_000, stale_after_changes=12_000.0).is_stale


def test_a_table_filled_and_analyzed_by_one_session_is_not_stale() -> None:
    filled = replace(
        ALERT, changes_since_analyze=60_000, analyzed_at=NOW, rows_counted=60_000.0,
        writes=Writes(inserted=60_000),
    )  # fmt: skip
    assert not filled.is_stale and filled.changes_unseen == 0
    # The same rows written twice, or gathered from another number, were not all seen.
    assert replace(filled, rows_counted=30_000.0).is_stale
    assert replace(filled, writes=Writes(inserted=60_000, updated=60_000)).is_stale
    assert replace(filled, analyzed_at=None).is_stale


def test_statistics_never_gathered_are_told() -> None:
    columns = {n: replace(c, distinct=None) for n, c in ALERT.columns.items()}
    (found,) = statistics_symptoms(replace(ALERT, columns=columns), set())
    assert (found.name, found.subject) == ("statistics-missing", "alert")


@pytest.mark.parametrize(
    ("count", "rarest", "together", "tested", "fires"),
    [
        (100, 0.004, 0.6, True, True),  # 240 rows each, the other 2,900 values 8 rows each
        (100, 0.002, 0.5, True, True),
        (100, 0.0003, 0.03, True, False),  # hardly above the average
        (100, 0.004, 0.6, False, False),  # nobody asks for it
        (40, 0.02, 0.9, True, False),  # the list is not full: nothing was left out
    ],
)
def test_statistics_are_too_coarse_when_the_list_ends_at_a_common_value(
    count: int, rarest: float, together: float, tested: bool, fires: bool
) -> None:
    code = replace(
        ALERT.columns["code"], distinct=3000.0, common_count=count, common_share=together,
        rarest_share=rarest, target=100,
    )  # fmt: skip
    facts = replace(ALERT, columns={**ALERT.columns, "code": code})
    searched = {(ALERT.name, "code")} if tested else set()
    found = list(statistics_symptoms(facts, searched))
    assert [s.name for s in found] == (["statistics-too-coarse"] if fires else [])
    # Partitions are alike: one is told of, and the statement is that for all of them.
    parts = {
        name: replace(facts, name=name, partition_of="alert", root=ALERT.name)
        for name in (TableName("", "alert_may"), TableName("", "alert_june"))
    }
    asked = {(name, "code") for name in parts if tested}
    told = schema_symptoms(parts, asked, NOW, CapturedUse(), POSTGRESQL)
    coarse = [s for s in told if s.name == "statistics-too-coarse"]
    assert len(coarse) == (1 if fires else 0)
    for each in coarse:
        assert "another partition of alert" in in_words(each.summary)
        assert "ALTER TABLE alert " in in_words(each.cause.detail)
