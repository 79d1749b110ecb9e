from __future__ import annotations

import pytest

from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.index_text import parse_index
from humble_ledger.core.remedies.migration import Migration, index_migration
from humble_ledger.core.remedies.model import index_remedy
from humble_ledger.core.remedies.naming import index_name
from humble_ledger.core.schema.facts import IndexKey, TableName
from humble_ledger.core.schema.quoting import fitting_name, identifier
from humble_ledger.engines.postgresql.dialect import POSTGRESQL
from humble_ledger.errors import UnreadableInput


@pytest.mark.parametrize(
    ("text", "statement"),
    [
        ("reading (sensor_id)", "reading (sensor_id)"),
        ("reading(sensor_id,taken_at desc)", "reading (sensor_id, taken_at DESC)"),
        ("s.reading (a asc nulls first)", "s.reading (a NULLS FIRST)"),
        ("public.reading (a DESC NULLS LAST)", "reading (a DESC NULLS LAST)"),
        ("t (a desc nulls first)", "t (a DESC)"),
        ("t (lower(a), b)", "t (lower(a), b)"),
        ("t ((a + b))", "t ((a + b))"),
        ('"Odd" ("select", "x y")', '"Odd" ("select", "x y")'),
        ("t using brin (a)", "t USING brin (a)"),
        ("t (a) include (b, c)", "t (a) INCLUDE (b, c)"),
        ("t (a) where b = 'x;(' and c > 1", "t (a) WHERE b = 'x;(' and c > 1"),
        ("T (A)", "t (a)"),
    ],
)
def test_an_index_as_people_write_it(text: str, statement: str) -> None:
    assert parse_index(text, "public").words == statement


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("", "a table"),
        ("reading", "keys in brackets"),
        ("reading (", "closing bracket"),
        ("reading ()", "keys in brackets"),
        ("reading (a,)", "keys in brackets"),
        ("reading (a) where", "condition behind WHERE"),
        ("reading (a) and more", 'nothing more than "and"'),
        ("7 (a)", "a table"),
    ],
)
def test_what_cannot_be_read_says_what_was_expected(text: str, expected: str) -> None:
    with pytest.raises(UnreadableInput, match=expected):
        parse_index(text, "public")


@pytest.mark.parametrize(
    ("name", "quoted"),
    [("a_1", "a_1"), ("A", '"A"'), ("order", '"order"'), ('a"b', '"a""b"'), ("é", '"é"')],
)
def test_names(name: str, quoted: str) -> None:
    assert identifier(name) == quoted


def test_long_names_are_cut_at_a_character() -> None:
    assert len(fitting_name("ö" * 50).encode()) <= 63
    design = IndexDesign(TableName("public", "t" * 40), (IndexKey("c" * 40),))
    assert len(index_name(design).encode()) <= 63 and index_name(design).endswith("_idx")


def test_a_remedy_undoes_itself_in_the_tables_schema() -> None:
    remedy = index_remedy(
        IndexDesign(TableName("sea", "buoy"), (IndexKey("kind"),)), reason="asked for"
    )
    assert remedy.apply == ("CREATE INDEX buoy_kind_idx ON sea.buoy (kind);",)
    assert remedy.revert == ("DROP INDEX sea.buoy_kind_idx;",)


def test_a_migration_of_two_is_undone_in_reverse() -> None:
    one = index_migration(
        IndexDesign(TableName("public", "t"), (IndexKey("a"),)), "t_a", POSTGRESQL
    )
    two = index_migration(
        IndexDesign(TableName("public", "t"), (IndexKey("b"),)), "t_b", POSTGRESQL
    )
    both = Migration.joined([one, two], ["why\nDROP TABLE t;"], POSTGRESQL)
    assert both.name == "t_a_and_t_b"
    assert both.forward.index("t_a ON") < both.forward.index("t_b ON")
    assert both.backward.index("t_b;") < both.backward.index("t_a;")
    assert "\nDROP TABLE" not in both.forward, "a comment of several lines stays a comment"
