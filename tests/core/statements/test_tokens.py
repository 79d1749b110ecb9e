from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_ledger.core.statements.tokens import TokenKind, meaningful, split_statements, tokens

PIECES = st.sampled_from(
    ["select", " ", "\n", "'it''s'", '"A b"', "$1", "$x$ ; $x$", "/* a /* b */ c */", "-- c\n",
     "1.5e-3", "0x1F", "::", "(", ")", ",", ";", "<=", "E'a\\'b'", "é", ".", "?", "\x00", "$$"]
)  # fmt: skip


@given(st.one_of(st.text(), st.lists(PIECES).map("".join)))
def test_tokens_joined_are_the_text(sql: str) -> None:
    assert "".join(token.text for token in tokens(sql)) == sql


@pytest.mark.parametrize(
    ("sql", "kinds"),
    [
        ("a1", "word"),
        ("'it''s'", "string"),
        (r"E'it\'s'", "string"),
        ("$q$ it's; $q$", "string"),
        ('"we""ird"', "quoted"),
        ("$12", "parameter"),
        ("1.5e10", "number"),
        ("/* a /* b */ c */", "comment"),
        ("-- to the end", "comment"),
        ("a->>'b'", "word operator string"),
        ("x=%s", "word operator parameter"),
        ("x=%(name)s", "word operator parameter"),
        ("x::int", "word punctuation word"),
        ("x=:name", "word operator parameter"),
        ("a--b\n", "word comment space"),
        ("'closed; select 'b'; c", "string unclosed"),
        ("a $q$ b", "word space unclosed"),
        ("E'a'\n'\\''", "string"),
        ("--a\rb", "comment space word"),
        ('e"name"', "word quoted"),
        ("e'unclosed", "unclosed"),
    ],
)
def test_kinds_of_tokens(sql: str, kinds: str) -> None:
    assert " ".join(token.kind.value for token in tokens(sql)) == kinds


@pytest.mark.parametrize(
    ("sql", "parts"),
    [
        ("select 1; select 2", ["select 1", "select 2"]),
        ("select ';'", ["select ';'"]),
        ("select 1; -- done;", ["select 1"]),
        ("select $$a;b$$; ;", ["select $$a;b$$"]),
        ("/* only; a comment */", []),
        ('select ";"', ['select ";"']),
    ],
)
def test_statements_part_at_semicolons_outside_strings(sql: str, parts: list[str]) -> None:
    assert split_statements(sql) == parts


def test_meaningful_leaves_out_space_and_comments() -> None:
    assert [t.text for t in meaningful("select /* x */ a -- y")] == ["select", "a"]
    assert meaningful("select a")[0].kind is TokenKind.WORD
