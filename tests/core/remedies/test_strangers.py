"""Remedies that came from elsewhere, or are kept without literals."""

from __future__ import annotations

from dataclasses import replace

import pytest

from humble_ledger.core.dialect import STANDARD
from humble_ledger.core.remedies.foreign import is_plain, shown_as_done
from humble_ledger.core.remedies.index_text import parse_index
from humble_ledger.core.remedies.masking import lacks_literals, masked_remedy
from humble_ledger.core.remedies.model import Remedy, index_remedy, remedy_of
from humble_ledger.core.remedies.operations import RewriteStatement

SENT = RewriteStatement("SELECT 1", "SELECT 1 FROM t WHERE a = $1")
TEXT = remedy_of(SENT, "the statement", STANDARD)
INDEXES = [
    ("t (a, b DESC)", True),
    ("t (a) INCLUDE (b)", True),
    ("t (a) WHERE b = 'secret 4711'", False),
    ("t (lower(a || 'secret 4711'))", False),
]


def beside(index: str) -> Remedy:
    """The text with an index that it takes."""
    sent = RewriteStatement(SENT.old, SENT.new, beside=parse_index(index, "public"))
    return replace(TEXT, operation=sent)


@pytest.mark.parametrize(("index", "plain"), INDEXES)
def test_an_index_is_made_for_a_stranger_only_by_its_names(index: str, plain: bool) -> None:
    design = parse_index(index, "public")
    assert is_plain(index_remedy(design, reason="")) == plain
    # A new text brings the index that it takes along.
    assert is_plain(beside(index)) == plain
    assert is_plain(TEXT)
    asks = RewriteStatement(SENT.old, SENT.new, values_from="SELECT nextval('s')")
    assert not is_plain(replace(TEXT, operation=asks))


def test_what_a_stranger_shows_is_what_would_be_sent() -> None:
    disguised = replace(TEXT, apply=("SELECT 'harmless';",))
    assert shown_as_done(disguised) == TEXT


@pytest.mark.parametrize(("index", "plain"), INDEXES)
def test_the_index_beside_a_text_is_kept_without_literals(index: str, plain: bool) -> None:
    masked = masked_remedy(beside(index))
    assert "4711" not in repr(masked)
    assert lacks_literals(masked) != plain
