from __future__ import annotations

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_ledger.core.statements.fingerprint import normalise
from humble_ledger.core.statements.wording import HOLE, cut, refill
from tests.core.statements.test_fingerprint import DIFFERENT, SAME

STATEMENTS = st.sampled_from([one for pair in SAME + DIFFERENT for one in pair])
PIECES = st.sampled_from(
    ["select ", "a", "1", "-2.5", "'x'", "'it''s'", '"A 1"', '"it\'s"', " = ", "--c '\n",
     "/* '1 */", "$$it's$$", "E'\\''", "$1", "t2", ":b", " and ", "(", ")", ",", "\\", "'"]
)  # fmt: skip


@given(STATEMENTS, st.integers(0, 10**9), st.text("abc xyz;(),", max_size=8))
def test_the_same_wording_means_the_same_query(sql: str, number: int, text: str) -> None:
    other = re.sub(r"\b\d+\b", str(number), sql)
    other = re.sub(r"'[^']*'", f"'{text}'", other)
    one, two = cut(sql), cut(other)
    if one is not None and two is not None and one[0] == two[0]:
        assert normalise(sql).fingerprint == normalise(other).fingerprint


@given(st.lists(PIECES, max_size=12).map("".join), st.lists(PIECES, max_size=12).map("".join))
def test_whatever_the_text_no_two_queries_share_a_wording(one: str, other: str) -> None:
    first, second = cut(one), cut(other)
    if first is not None and second is not None and first[0] == second[0]:
        assert normalise(one).fingerprint == normalise(other).fingerprint


@given(st.lists(PIECES, max_size=12).map("".join))
def test_the_text_comes_back(sql: str) -> None:
    found = cut(sql)
    if found is not None:
        assert refill(*found) == sql


@pytest.mark.parametrize(
    "sql", ["select E'x'", "select $$x$$", "select U&'x'", "select 'open", "select a\\b"]
)
def test_other_kinds_of_strings_are_kept_whole(sql: str) -> None:
    assert cut(sql) is None


@pytest.mark.parametrize(
    ("sql", "wording", "literals"),
    [
        ("select t1.a2 from x3 where b = 4.5 and c = 'd'",
         "select t1.a2 from x3 where b = ? and c = ?", ["4.5", "'d'"]),
        ("select 'it''s', $1", "select ?, $1", ["'it''s'"]),
        ('select "a 1" from "t\'s" where b = 2', 'select "a 1" from "t\'s" where b = ?', ["2"]),
        ("select 1 -- it's 2", "select ? -- it's 2", ["1"]),
        ("select 1 /* 'x' */ + 2", "select ? /* 'x' */ + ?", ["1", "2"]),
        ("select a::text", "select a::text", []),
    ],
)  # fmt: skip
def test_wordings_keep_names_and_shape(sql: str, wording: str, literals: list[str]) -> None:
    assert cut(sql) == (wording.replace("?", HOLE), literals)
