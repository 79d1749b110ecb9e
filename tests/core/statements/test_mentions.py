"""Names that a text may call, found whatever the lexical rules are."""

from __future__ import annotations

import pytest

from humble_ledger.core.statements.mentions import mentions

CALLS = {
    "f(1)": ("", "f"),
    "F (1)": ("", "f"),
    "s.f(1)": ("s", "f"),
    'S . "F"(1)': ("s", "F"),
    '"S"."f" /* x */ (1)': ("S", "f"),
    "f--x\n(1)": ("", "f"),
    "s/**/./**/f(1)": (None, "f"),
    "'it''s f(1)'": ("", "f"),
    "$$ f(1) $$": ("", "f"),
    "$a$f(1)": ("", "f"),
    'SELECT \'"\', f("(")': ("", "f"),
    '"f""g"(1)': ("", 'f"g'),
    'U&"\\0066"(1)': ("", "f"),
    "U&\"!0066\" UESCAPE '!' (1)": ("", "f"),
    'U&"\\+000066"(1)': ("", "f"),
    '"' + "x" * 80 + '"(1)': ("", "x" * 63),
    "y" * 80 + "(1)": ("", "y" * 63),
    "\u00e9f(1)": ("", "\u00e9f"),
    "-- \r f(1)": (None, "f"),
}


@pytest.mark.parametrize("text", CALLS)
def test_a_call_is_found_wherever_it_stands(text: str) -> None:
    assert CALLS[text] in mentions(text).called


def test_names_without_a_bracket_are_names_only() -> None:
    found = mentions('SELECT a, "B c" FROM t WHERE x IN (1)')
    assert {"a", "B c", "t", "x"} <= found.names
    assert {name for _, name in found.called} == {"in"}
