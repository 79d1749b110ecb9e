"""Remedies that came from elsewhere, or are kept without literals."""

from __future__ import annotations

from dataclasses import replace

import pytest

from humble_ledger.core.remedies.foreign import is_plain
from humble_ledger.core.remedies.index_text import parse_index
from humble_ledger.core.remedies.masking import lacks_literals, masked_remedy
from humble_ledger.core.remedies.model import Remedy, RemedyType, index_remedy

TEXT = Remedy(
    RemedyType.REWRITE, "the statement", ("SELECT 1 FROM t WHERE a = $1;",), ("SELECT 1;",)
)
INDEXES = [
    ("t (a, b DESC)", True),
    ("t (a) INCLUDE (b)", True),
    ("t (a) WHERE b = 'secret 4711'", False),
    ("t (lower(a || 'secret 4711'))", False),
]


@pytest.mark.parametrize(("index", "plain"), INDEXES)
def test_an_index_is_made_for_a_stranger_only_by_its_names(index: str, plain: bool) -> None:
    design = parse_index(index, "public")
    assert is_plain(index_remedy(design, reason="")) == plain
    # A new text brings the index that it takes along.
    assert is_plain(replace(TEXT, beside=design)) == plain
    assert is_plain(TEXT)


@pytest.mark.parametrize(("index", "plain"), INDEXES)
def test_the_index_beside_a_text_is_kept_without_literals(index: str, plain: bool) -> None:
    masked = masked_remedy(replace(TEXT, beside=parse_index(index, "public")))
    assert "4711" not in repr(masked)
    assert lacks_literals(masked) != plain
