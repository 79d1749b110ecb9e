"""Indexes on the beginnings of values, where these are too long to be a key."""

from __future__ import annotations

from dataclasses import replace

import pytest

from humble_ledger.core.costs.model import KeySample
from humble_ledger.core.remedies.candidates.accesses import accesses
from humble_ledger.core.remedies.candidates.model import IndexAbilities
from humble_ledger.core.remedies.candidates.registry import candidates
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.prediction.matching import match
from humble_ledger.core.schema.beginnings import Beginning, beginning_of
from humble_ledger.core.schema.facts import IndexKey, TableFacts, TableName
from humble_ledger.engines.mysql.dialect import FAMILY
from tests.core.remedies.test_prediction import table
from tests.plans import plan_of, step

LETTER = TableName("public", "letter")
# How many of 1,000 sampled values differ in their first so many characters.
TOLD_APART = {8: 20, 12: 300, 16: 960, 24: 990, 32: 1000}


def letters(**kinds: str) -> TableFacts:
    plain = table("letter", 100_000, 4_000, "letter_id", "keeper_id", "body")
    columns = dict(plain.columns)
    columns["body"] = replace(
        columns["body"], type_name="text", length_bytes=-1, sortable=False,
        longest_bytes=65_535, like_in_any_order=True,
    )  # fmt: skip
    return replace(plain, columns=columns)


def sampled(_: TableName, key: IndexKey) -> KeySample | None:
    first = beginning_of(key)
    assert first is not None and first.column == "body"
    return KeySample(1000, 1000, TOLD_APART.get(first.length, 1000), 0, first.length + 5.0)


ABLE = IndexAbilities(methods=FAMILY.methods, includes=False, most_key_bytes=3072, sampled=sampled)


def designs(condition: str, means: IndexAbilities = ABLE) -> set[str]:
    plan = plan_of(
        step("Seq Scan", rows=5, cost=31_250.0, Relation_Name="letter", Schema="public",
             Alias="letter", Filter=condition)
    )  # fmt: skip
    return {c.design.body_in(FAMILY) for c in candidates(plan, {LETTER: letters()}, means)}


@pytest.mark.parametrize(
    ("condition", "expected"),
    [
        ("(letter.body = 'x')", {"(body(16))"}),
        ("((letter.body = 'x') AND (letter.keeper_id = 7))",
         {"(body(16))", "(body(16), keeper_id)"}),
        ("(letter.body ~~ 'The buoy%'::text)", {"(body(16))"}),
        ("(letter.body LIKE 'The buoy%')", {"(body(16))"}),
        ("(letter.body LIKE '%buoy%')", set()),
        ("(letter.body NOT LIKE 'The buoy%')", set()),
        ("(letter.body ~ '^The buoy')", set()),
    ],
)  # fmt: skip
def test_what_is_too_long_is_found_by_its_beginning(condition: str, expected: set[str]) -> None:
    found = designs(condition)
    assert expected <= found
    assert {each for each in found if "body" in each} == {e for e in expected if "body" in e}


def test_where_no_key_can_be_a_beginning_there_is_none() -> None:
    assert designs("(letter.body = 'x')", replace(ABLE, sampled=lambda *_: None)) == set()


def test_a_key_is_no_longer_than_the_server_has_them() -> None:
    short = replace(ABLE, most_key_bytes=40)
    assert designs("(letter.body = 'x')", short) == set()  # 16 characters may be 64 bytes


@pytest.mark.parametrize(
    ("condition", "served"),
    [
        ("(letter.body = 'x')", True),
        ("(letter.body LIKE 'The%')", True),
        ("(letter.body > 'x')", False),  # what is equal in its beginning is not in order
        ("(\"left\"(letter.body, 16) = 'x')", False),
        ("(letter.body ~ '^The')", False),
    ],
)
def test_a_beginning_finds_values_and_nothing_else(condition: str, served: bool) -> None:
    plan = plan_of(
        step("Seq Scan", rows=5, Relation_Name="letter", Schema="public", Alias="letter",
             Filter=condition)
    )  # fmt: skip
    (access,) = accesses(plan, {LETTER: letters()})
    found = match(access, IndexDesign(LETTER, (Beginning("body", 16).key,)), ())
    assert found.bounded == served
