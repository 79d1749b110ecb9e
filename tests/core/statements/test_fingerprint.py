from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_ledger.core.statements.fingerprint import normalise
from humble_ledger.core.statements.tokens import TokenKind, tokens

SAME = [
    # literals
    ("select * from t where a = 1", "select * from t where a = 2"),
    ("select * from t where a = 1", "select * from t where a = 1.5"),
    ("select * from t where a = 1", "select * from t where a = 1e10"),
    ("select * from t where a = 1", "select * from t where a = 0x1F"),
    ("select * from t where a = 1", "select * from t where a = 1_000"),
    ("select * from t where a = 1", "select * from t where a = 'x'"),
    ("select * from t where a = 'x'", "select * from t where a = ''"),
    ("select * from t where a = 'x'", "select * from t where a = 'it''s'"),
    ("select * from t where a = 'x'", "select * from t where a = E'it\\'s'"),
    ("select * from t where a = 'x'", "select * from t where a = $tag$it's$tag$"),
    ("select * from t where a = 'x'", "select * from t where a = $$;--$$"),
    ("select * from t where a = 'x'", "select * from t where a = U&'d\\0061t'"),
    ("select * from t where a = 'x'", "select * from t where a = B'101'"),
    ("select * from t where a = 'x'", "select * from t where a = '-- no comment'"),
    ("select * from t where a = 'x'", "select * from t where a = '/* nor this */'"),
    ("select * from t where a = -1", "select * from t where a = 1"),
    ("select * from t where a = +1", "select * from t where a = 1"),
    ("select * from t where a > -1.5 and b", "select * from t where a > 7 and b"),
    ("select a from t where b between -3 and 4", "select a from t where b between 3 and -4"),
    ("select * from t where a = true", "select * from t where a = false"),
    ("select * from t where a = null", "select * from t where a = 5"),
    ("select coalesce(a, null) from t", "select coalesce(a, 0) from t"),
    ("select 1", "select 2"),
    ("select true", "select false"),
    ("select now() - interval '1 day'", "select now() - interval '2 days'"),
    ("select date '2026-01-01'", "select date '2026-02-01'"),
    ("select 'x'::text", "select 'y'::text"),
    ("select a from t where b like 'x%'", "select a from t where b like '%y'"),
    ("select a from t limit 5", "select a from t limit 50"),
    ("select a from t limit 5 offset 0", "select a from t limit 5 offset 5000"),
    ("select a from t order by 1", "select a from t order by 2"),
    ("select a->'b' from t", "select a->'c' from t"),
    ("select a->>0 from t", "select a->>1 from t"),
    ("select a[1] from t", "select a[2] from t"),
    ("select round(a, 2) from t", "select round(a, 3) from t"),
    (
        "select case when a = 1 then 'x' else 'y' end from t",
        "select case when a = 2 then 'p' else 'q' end from t",
    ),
    ("update t set a = 1 where b = 2", "update t set a = 3 where b = 4"),
    ("update t set a = null where b = 2", "update t set a = 'x' where b = 4"),
    ("delete from t where a < '2026-01-01'", "delete from t where a < '2025-01-01'"),
    ("select * from f(1, 'a')", "select * from f(2, 'b')"),
    ("select * from generate_series(1, 10)", "select * from generate_series(5, 100)"),
    # lists
    ("select * from t where a in (1)", "select * from t where a in (1, 2, 3)"),
    ("select * from t where a in ('x', 'y')", "select * from t where a in ('z')"),
    ("select * from t where a in ($1, $2)", "select * from t where a in (7)"),
    ("select * from t where a in (-1, 2)", "select * from t where a in (3)"),
    ("select * from t where a not in (1, 2)", "select * from t where a not in (3)"),
    ("select * from t where a in (1, null)", "select * from t where a in (2)"),
    ("select * from t where a = any(array[1])", "select * from t where a = any(array[1,2])"),
    ("select * from t where a = any($1)", "select * from t where a = any('{1,2}')"),
    ("select * from t where a in ($1 /*, ... */)", "select * from t where a in (1, 2, 3)"),
    ("insert into t values (1, 'a')", "insert into t values (2, 'b')"),
    ("insert into t values (1), (2)", "insert into t values (1), (2), (3)"),
    (
        "insert into t (a, b) values (1, now()), (2, now())",
        "insert into t (a, b) values (3, now()), (4, now()), (5, now())",
    ),
    ("select * from (values (1), (2)) v", "select * from (values (1), (2), (3)) v"),
    # white space, comments, case, quotes
    ("select * from t where a = 1", "SELECT  *\nFROM t WHERE a=$1"),
    ("select a,b from t", "select a , b from t"),
    ("select a from t", "select\ta\r\nfrom\n\nt"),
    ("select f(a) from t", "select f ( a ) from t"),
    ("select a from t", "select a /* from x */ from t -- end"),
    ("select a from t", "-- who: me\nselect a from t"),
    ("select a from t", "select /* a /* nested */ comment */ a from t"),
    ("select a from t", "/* route='/home',id=77 */ select a from t"),
    ("select a from t", "select a from t /* trace 5f3a91bc */"),
    ("select a from t;", "select a from t"),
    ("select a from t;;", "select a from t"),
    ("  select a from t  ", "select a from t"),
    ("SELECT A FROM T", "select a from t"),
    ("Select Count(*) From T Where A Is Not Null", "SELECT count(*) FROM t WHERE a IS NOT NULL"),
    ('select "a" from "t"', "select a from t"),
    ('select "t"."a" from "s"."t"', "select t.a from s.t"),
    ('select a as "b" from t', "select a as b from t"),
    ("select a from t where b <> 1", "select a from t where b != 1"),
    ("select a from t where b>=1", "select a from t where b >= 1"),
    ("select a::int from t", "select a :: int from t"),
    # parameters
    ("select a from t where b = %s", "select a from t where b = :b"),
    ("select a from t where b = $1", "select a from t where b = 5"),
    ("select a from t where b = ?", "select a from t where b = $1"),
    ("select a from t where b = %(b)s", "select a from t where b = 'x'"),
    ("select a from t where b = $2 and c = $1", "select a from t where b = $1 and c = $2"),
    ("select a from t limit $1", "select a from t limit 10"),
    ("insert into t values ($1, $2)", "insert into t values (1, 'x')"),
    # names made up anew each time
    ("select a from tmp_20260301", "select a from tmp_20260302"),
    ("select a from temp_5f3a91bc", "select a from temp_00ab12cd"),
    ("select a from tmp_import_172839", "select a from tmp_import_998877"),
    ("select a from pg_temp_3.x", "select a from pg_temp_17.x"),
    # what no parser knows
    ("broken ( sql 'x", "broken ( sql 'x"),
    ("frobnicate widget 7 with 'x'", "frobnicate widget 8 with 'y'"),
    ("match (a)-[:knows]->(b) return 1", "match (a)-[:knows]->(b) return 2"),
]
DIFFERENT = [
    # columns and tables
    ("select a from t", "select b from t"),
    ("select a from t", "select a from u"),
    ("select a from t", "select a, b from t"),
    ("select a, b from t", "select b, a from t"),
    ("select a from s.t", "select a from t"),
    ("select a from s.t", "select a from r.t"),
    ("select t.a from t", "select a from t"),
    ("select a from t1", "select a from t2"),
    ("select a from t_2025", "select a from t_2026"),
    ("select a from reading_2026_01", "select a from reading_2026_02"),
    ("select a from template_12345", "select a from template_54321"),
    ("select a from tmp_orders", "select a from tmp_visits"),
    ("select a from temperature_2025", "select a from temperature_2026"),
    ('select "A" from t', "select a from t"),
    ('select "a b" from t', 'select "a  b" from t'),
    ('select "col 1" from t', 'select "col 2" from t'),
    ('select "order" from t', "select order from t"),
    ("select a from t x", "select a from t y"),
    ("select a as b from t", "select a as c from t"),
    ("insert into t (a) values (1)", "insert into t (b) values (1)"),
    ("insert into t values (1, 2)", "insert into t values (1)"),
    ("insert into t values (1)", "insert into u values (1)"),
    ("update t set a = 1", "update t set b = 1"),
    ("delete from t where a = 1", "delete from t where b = 1"),
    # operators and conditions
    ("select a from t where a = 1", "select a from t where a > 1"),
    ("select a from t where a > 1", "select a from t where a >= 1"),
    ("select a from t where a < 1", "select a from t where a <= 1"),
    ("select a from t where a = 1", "select a from t where a <> 1"),
    ("select a from t where a = 1", "select a from t where b = 1"),
    ("select a from t where a = 1", "select a from t where 1 = a"),
    ("select a from t where a = 1", "select a from t where a = b"),
    ("select a from t where a = 1 and b = 2", "select a from t where a = 1 or b = 2"),
    ("select a from t where a = 1", "select a from t where a = 1 and b = 2"),
    ("select a from t where a = 1", "select a from t"),
    ("select a from t where a is null", "select a from t where a is not null"),
    ("select a from t where a is null", "select a from t where a is true"),
    ("select a from t where a is true", "select a from t where a is false"),
    ("select a from t where a is null", "select a from t where a = null"),
    ("select a from t where a in (1)", "select a from t where a not in (1)"),
    ("select a from t where a in (1)", "select a from t where a = 1"),
    ("select a from t where a in (b)", "select a from t where a in (1)"),
    ("select a from t where a in (1, b)", "select a from t where a in (1, 2)"),
    ("select a from t where a in (select 1)", "select a from t where a in (1)"),
    ("select a from t where a like 'x'", "select a from t where a ilike 'x'"),
    ("select a from t where a like 'x'", "select a from t where a not like 'x'"),
    ("select a from t where a ~ 'x'", "select a from t where a ~* 'x'"),
    ("select a from t where a @> '1'", "select a from t where a <@ '1'"),
    ("select a from t where exists (select 1)", "select a from t where not exists (select 1)"),
    ("select a from t where a = any($1)", "select a from t where a = all($1)"),
    ("select a - 1 from t", "select a + 1 from t"),
    ("select a * 2 from t", "select a / 2 from t"),
    ("select a -1 from t", "select a, -1 from t"),
    ("select a || 'x' from t", "select a from t"),
    ("select a->'x' from t", "select a->>'x' from t"),
    ("select a::int from t", "select a::text from t"),
    ("select 'x'::text", "select 'x'::date"),
    ("select cast(a as int) from t", "select cast(a as bigint) from t"),
    # clauses
    ("select a from t order by a", "select a from t order by a desc"),
    ("select a from t order by a", "select a from t order by b"),
    ("select a from t order by a nulls first", "select a from t order by a nulls last"),
    ("select a from t order by a", "select a from t"),
    ("select a from t", "select distinct a from t"),
    ("select distinct a from t", "select distinct on (a) a from t"),
    ("select a from t limit 1", "select a from t offset 1"),
    ("select a from t limit 1", "select a from t"),
    ("select a from t for update", "select a from t"),
    ("select a from t for update", "select a from t for share"),
    ("select a from t join u on x", "select a from t left join u on x"),
    ("select a from t join u on x", "select a from t cross join u"),
    ("select a from t join u on x = y", "select a from t join u on x = z"),
    ("select a from t, u", "select a from t join u on true"),
    ("select a from t union select b from u", "select a from t union all select b from u"),
    ("select a from t union select b from u", "select a from t except select b from u"),
    ("select count(a) from t", "select count(distinct a) from t"),
    ("select count(a) from t", "select count(*) from t"),
    ("select count(a) from t", "select sum(a) from t"),
    ("select sum(a) from t group by b", "select sum(a) from t group by c"),
    ("select sum(a) from t group by b", "select sum(a) from t group by b having sum(a) > 1"),
    ("select a from t group by a", "select a from t group by rollup(a)"),
    ("select sum(a) over (partition by b) from t", "select sum(a) over (order by b) from t"),
    ("with x as (select 1) select * from x",
     "with x as materialized (select 1) select * from x"),
    ("with recursive x as (select 1) select * from x", "with x as (select 1) select * from x"),
    ("insert into t values (1)", "insert into t values (1) returning a"),
    ("insert into t values (1)", "insert into t values (1) on conflict do nothing"),
    ("insert into t values (1)", "insert into t select 1"),
    ("insert into t values (default)", "insert into t values (null)"),
    ("select f(a) from t", "select g(a) from t"),
    ("select f(a) from t", "select f(a, b) from t"),
    ("broken ( sql", "broken [ sql"),
]  # fmt: skip


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


@given(STATEMENTS, st.randoms(use_true_random=False))
def test_writing_a_statement_in_another_way_never_changes_its_query(sql: str, random) -> None:  # type: ignore[no-untyped-def]
    """Other case, spaces, comments, literals and parameter styles, token by token."""
    parts: list[str] = []
    for token in tokens(sql):
        text = token.text
        signed = bool(parts) and parts[-1] in ("-", "+")
        if token.kind is TokenKind.WORD:
            text = random.choice([text, text.upper(), text.lower()])
        elif token.kind is TokenKind.SPACE:
            text = random.choice([" ", "\n\t", " /* x */ ", " -- y\n"])
        elif token.kind is TokenKind.STRING:
            text = random.choice([text, "'z'", "'it''s -- 5'", "$9"])
        elif token.kind is TokenKind.NUMBER:
            # Minus a parameter is an operator's work, minus a number is a number.
            text = random.choice([text, "7", "8.25", *([] if signed else ["$9"])])
        elif token.kind is TokenKind.COMMENT:
            text = " "
        parts.append(text)
    written = "".join(parts)
    assert normalise(written).fingerprint == normalise(sql).fingerprint, written


@given(STATEMENTS)
def test_the_normalised_text_belongs_to_the_same_query(sql: str) -> None:
    found = normalise(sql)
    if "…" not in found.text:
        assert normalise(found.text).fingerprint == found.fingerprint


@given(st.text())
def test_any_text_has_a_fingerprint(text: str) -> None:
    assert len(normalise(text).fingerprint) == 16


def test_there_are_pairs_enough_to_trust_the_grouping() -> None:
    assert len(SAME) + len(DIFFERENT) >= 150
