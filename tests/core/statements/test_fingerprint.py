from __future__ import annotations

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_ledger.core.statements.fingerprint import normalise, skeleton

SAME = [
    ("select * from t where a = 1", "select * from t where a = 2"),
    ("select * from t where a = 1", "SELECT  *\nFROM t WHERE a=$1"),
    ("select * from t where a = 'x'", "select * from t where a = $tag$it's$tag$"),
    ("select * from t where a = -1", "select * from t where a = 1"),
    ("select * from t where a in (1)", "select * from t where a in (1, 2, 3)"),
    ("select * from t where a in ($1, $2)", "select * from t where a in (7)"),
    ("select * from t where a = any(array[1])", "select * from t where a = any(array[1,2])"),
    ("insert into t values (1, 'a')", "insert into t values (2, 'b')"),
    ("insert into t values (1), (2)", "insert into t values (1), (2), (3)"),
    ("select a from t", "select a /* from x */ from t -- end"),
    ("select a from t;", "select a from t"),
    ('select "a" from "t"', "select a from t"),
    ("select a from t where a <> 1", "select a from t where a != 1"),
    ("select a from t limit 5", "select a from t limit 50"),
    ("select a from t where b = %s", "select a from t where b = :b"),
    ("select a from t where b between -3 and 4", "select a from t where b between 3 and -4"),
    ("select now() - interval '1 day'", "select now() - interval '2 days'"),
    ("select a from t where b like 'x%'", "select a from t where b like '%y'"),
    ("SELECT A FROM T", "select a from t"),
    ("broken ( sql 'x", "broken ( sql 'x"),
]
DIFFERENT = [
    ("select a from t", "select b from t"),
    ("select a from t", "select a from u"),
    ("select a from t where a = 1", "select a from t where a > 1"),
    ("select a from t where a = 1", "select a from t where b = 1"),
    ("select a from t where a is null", "select a from t where a is not null"),
    ("select a from t where a = null", "select a from t where a = 1"),
    ("select a from t where a in (1)", "select a from t where a not in (1)"),
    ("select a from t where a in (b)", "select a from t where a in (1)"),
    ("select a from t order by a", "select a from t order by a desc"),
    ("select a from t", "select distinct a from t"),
    ('select "A" from t', "select a from t"),
    ('select "order" from t', "select order from t"),
    ("select a from s.t", "select a from t"),
    ("select a - 1 from t", "select a + 1 from t"),
    ("select a from t limit 1", "select a from t offset 1"),
    ("select true", "select false"),
    ("select a from t join u on x", "select a from t left join u on x"),
    ("select count(a) from t", "select count(distinct a) from t"),
    ("insert into t values (1, 2)", "insert into t values (1)"),
    ("select 'x'::text", "select 'x'::date"),
]


@pytest.mark.parametrize(("one", "other"), SAME)
def test_the_same_query(one: str, other: str) -> None:
    assert normalise(one).fingerprint == normalise(other).fingerprint


@pytest.mark.parametrize(("one", "other"), DIFFERENT)
def test_different_queries(one: str, other: str) -> None:
    assert normalise(one).fingerprint != normalise(other).fingerprint


def test_text_is_readable_and_numbers_its_placeholders() -> None:
    found = normalise("select  a.b,f( x )from a where c='x' and d in(1,2) and e>=-5 limit 3")
    assert found.text == (
        "SELECT a.b, f(x) FROM a WHERE c = $1 AND d IN ($2, …) AND e >= $3 LIMIT $4"
    )
    assert found.constants == ("'x'", "1", "2", "-5", "3")


STATEMENTS = st.sampled_from([one for pair in SAME + DIFFERENT for one in pair])


@given(STATEMENTS, st.sampled_from(["  ", "\n", "/* c */", " -- c\n", "\t"]))
def test_white_space_and_comments_between_tokens_never_matter(sql: str, between: str) -> None:
    assert normalise(f"{between}{sql}{between};").fingerprint == normalise(sql).fingerprint


@given(STATEMENTS)
def test_the_normalised_text_belongs_to_the_same_query(sql: str) -> None:
    found = normalise(sql)
    if "…" not in found.text:
        assert normalise(found.text).fingerprint == found.fingerprint


@given(st.text())
def test_any_text_has_a_fingerprint(text: str) -> None:
    assert len(normalise(text).fingerprint) == 16


@given(STATEMENTS, st.integers(0, 10**9), st.text("abc xyz;(),", max_size=8))
def test_the_same_skeleton_means_the_same_query(sql: str, number: int, text: str) -> None:
    other = re.sub(r"\b\d+\b", str(number), sql)
    other = re.sub(r"'[^']*'", f"'{text}'", other)
    one, two = skeleton(sql), skeleton(other)
    if one is not None and one == two:
        assert normalise(sql).fingerprint == normalise(other).fingerprint


@pytest.mark.parametrize(
    "sql",
    ["select $1", "select 'it''s'", 'select "a"', "select 1 -- 2", "select E'x'", "select a:b"],
)
def test_what_is_tricky_has_no_skeleton(sql: str) -> None:
    assert skeleton(sql) is None


def test_skeletons_keep_names_and_shape() -> None:
    assert skeleton("select t1.a2 from x3 where b = 4.5 and c = 'd'") == (
        "select t1.a2 from x3 where b = ? and c = ?"
    )
    assert skeleton("select 1") == skeleton("select 22")
    assert skeleton("select 1 from t") != skeleton("select 1 from u")
