from __future__ import annotations

import pytest

from humble_ledger.core.glossary.book import BOOK, look_up
from humble_ledger.core.glossary.terms import TermKind
from humble_ledger.core.plans.model import Operation
from humble_ledger.engines.postgresql.plans.reader import OPERATIONS
from humble_ledger.errors import WrongUsage
from tests.plans import RECORDED, recorded


def test_every_operation_and_every_label_of_the_reader_has_its_words() -> None:
    steps = {term.name for term in BOOK if term.kind is TermKind.STEP}
    assert steps == {operation.value for operation in Operation}
    for label, operation in OPERATIONS.items():
        assert [term.name for term in look_up(label)] == [operation.value], label


def test_every_step_of_a_real_plan_can_be_looked_up() -> None:
    for path in RECORDED:
        for node in recorded(int(path.parent.name), path.stem).nodes():
            assert look_up(node.operation.value)


@pytest.mark.parametrize("term", BOOK, ids=lambda term: term.name)
def test_a_term_has_one_to_five_sentences(term) -> None:  # type: ignore[no-untyped-def]
    sentences = [part for part in f"{term.words} {term.look_out}".split(". ") if part.strip()]
    assert 1 <= len(sentences) <= 6
    assert term.words[0].isupper() and term.words.endswith(".")


@pytest.mark.parametrize(
    ("asked", "name"),
    [("hash join", "hash_join"), ("Bitmap Heap Scan", "bitmap_scan"), ("JIT", "compile time"),
     ("self_ms", "self time"), ("transactionid", "transactionid"), ("Index Cond", "search")],
)  # fmt: skip
def test_terms_are_found_by_any_of_their_names(asked: str, name: str) -> None:
    assert look_up(asked)[0].name == name


def test_what_the_glossary_does_not_have() -> None:
    with pytest.raises(WrongUsage, match="frobnication"):
        look_up("frobnication")
    assert len(look_up("")) == len(BOOK)
