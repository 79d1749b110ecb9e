from __future__ import annotations

import pytest

from humble_ledger.core.statements.conditions import (
    PredicateKind,
    Wrapping,
    columns_of,
    orders_rows,
    predicates,
)
from humble_ledger.core.statements.filling import fill, literal
from humble_ledger.core.statements.kinds import (
    StatementKind,
    kind_of,
    one_statement,
    require_plan,
    require_readable_run,
    shorten,
)
from humble_ledger.errors import RefusedForSafety, UnreadableInput

READS, CHANGES, NO_PLAN = StatementKind.READS, StatementKind.CHANGES, StatementKind.NO_PLAN


@pytest.mark.parametrize(
    ("sql", "kind"),
    [
        ("select 1", READS),
        ("(select 1) union (select 2)", READS),
        ("with a as (select 1) select * from a", READS),
        ("values (1)", READS),
        ("table t", READS),
        ("/* delete */ select 'update'", READS),
        ('select "update" from t', READS),
        ("select update_count from t", READS),
        ("insert into t values (1)", CHANGES),
        ("update t set a = 1", CHANGES),
        ("merge into t using u on true when matched then delete", CHANGES),
        ("with a as (delete from t returning *) select * from a", CHANGES),
        ("with a as (select 1) insert into t select * from a", CHANGES),
        ("select * from t for update", CHANGES),
        ("select * from t for no key update", CHANGES),
        ("select * from t for share", CHANGES),
        ("select * into u from t", CHANGES),
        ("create table t (a int)", NO_PLAN),
        ("begin", NO_PLAN),
        ("selec 1", NO_PLAN),
        ("", NO_PLAN),
    ],
)
def test_what_a_statement_does(sql: str, kind: StatementKind) -> None:
    assert kind_of(sql) is kind


def test_what_is_refused_and_why() -> None:
    assert one_statement(" select 1 ; ") == "select 1"
    with pytest.raises(UnreadableInput, match="2 statements"):
        one_statement("select 1; select 2")
    with pytest.raises(UnreadableInput, match="no statement"):
        one_statement(" -- nothing\n;")
    with pytest.raises(UnreadableInput, match="has no plan"):
        require_plan("create index on t (a)")
    with pytest.raises(RefusedForSafety, match="changes or locks"):
        require_readable_run("delete from t", allow_writes=False)
    require_readable_run("delete from t", allow_writes=True)
    require_readable_run("select 1", allow_writes=False)


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (None, "NULL"),
        ("12", "12"),
        ("-1.5", "-1.5"),
        ("1e5", "'1e5'"),
        ("it's", "'it''s'"),
        ("a\\b", "E'a\\\\b'"),
        ("", "''"),
    ],
)
def test_literals(value: str | None, text: str) -> None:
    assert literal(value) == text


def test_filling_leaves_strings_and_missing_values_alone() -> None:
    filled = fill("select '$1', $1, $2, $3 -- $1", ("7", None))
    assert filled == "select '$1', 7, NULL, $3 -- $1"
    assert shorten("select\n  1", 30) == "select 1"
    assert shorten("select 123456", 8) == "select …"


@pytest.mark.parametrize(
    ("condition", "kind", "wrapping", "column", "operator"),
    [
        ("(r.a = 5)", "equality", "none", ("r", "a"), "="),
        ("(5 < r.a)", "range", "none", ("r", "a"), ">"),
        ("((r.a)::numeric = 5.0)", "equality", "cast", ("r", "a"), "="),
        ("(date_trunc('day'::text, r.a) = 'x'::text)", "equality", "function", ("r", "a"), "="),
        ("((r.a + 1) > 5)", "range", "arithmetic", ("r", "a"), ">"),
        ("(r.a = ANY ('{1,2}'::integer[]))", "membership", "none", ("r", "a"), "= any"),
        ("(r.a ~~ '%x'::text)", "pattern", "none", ("r", "a"), "~~"),
        ("(r.a IS NOT NULL)", "null-test", "none", ("r", "a"), "is"),
        ("r.a", "truth", "none", ("r", "a"), ""),
        ("(NOT r.a)", "truth", "none", ("r", "a"), ""),
        ('(r."Odd Name" = 1)', "equality", "none", ("r", "Odd Name"), "="),
    ],
)
def test_one_predicate(
    condition: str, kind: str, wrapping: str, column: tuple[str, str], operator: str
) -> None:
    (found,) = predicates(condition)
    assert found.kind is PredicateKind(kind)
    assert found.wrapping is Wrapping(wrapping)
    assert found.column is not None
    assert (found.column.alias, found.column.column) == column
    assert found.operator == operator
    assert found.searchable == (wrapping == "none" and kind in ("equality", "range", "membership"))


def test_conjunctions_part_and_keep_the_servers_words() -> None:
    text = "((a.x = 1) AND (a.y >= '2026-01-01'::date) AND ((a.z = 2) OR (a.z = 3)))"
    found = predicates(text)
    assert [p.sql for p in found] == [
        "a.x = 1",
        "a.y >= '2026-01-01'::date",
        "(a.z = 2) OR (a.z = 3)",
    ]
    assert found[2].kind is PredicateKind.OTHER


def test_joins_have_a_partner_and_foreign_words_are_other() -> None:
    (join,) = predicates("(b.region_id = r.region_id)")
    assert join.column is not None and join.partner is not None
    assert (join.column.alias, join.partner.alias) == ("b", "r")
    for strange in (
        "(NOT (hashed SubPlan 1))",
        "((((",
        "(a.b = (c.d + e.f))",
    ):
        assert predicates(strange)[0].kind is PredicateKind.OTHER
    (given,) = predicates("((InitPlan 1).col1 = a.b)")
    assert given.searchable and given.column is not None and given.column.column == "b"
    assert [c.column for c in columns_of("(a.x + b.y) * a.x")] == ["x", "y"]


@pytest.mark.parametrize(
    ("sql", "ordered"),
    [
        ("select a from t order by a", True),
        ("select a from (select a from t order by a) x", False),
        ("select row_number() over (order by a) from t", False),
        ("select a from t group by a", False),
        ("select a from t group by a order /* c */ by a", True),
    ],
)
def test_whether_rows_are_ordered(sql: str, ordered: bool) -> None:
    assert orders_rows(sql) is ordered
