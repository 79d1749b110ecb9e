"""Terms in plain words."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

from msgspec import Struct

from humble_ledger.core.glossary.terms import Term


class TermRow(Struct, frozen=True):
    """A term of the glossary; ``also`` are its other names."""

    name: str
    about: str
    also: list[str]
    words: str
    look_out: str


class GlossaryDocument(Struct, frozen=True):
    """Terms of the glossary."""

    terms: list[TermRow]
    kind: Literal["glossary"] = "glossary"
    version: Literal[1] = 1


def glossary_document(terms: Iterable[Term]) -> GlossaryDocument:
    """Terms of the glossary."""
    return GlossaryDocument(
        [TermRow(t.name, t.kind.value, list(t.also), t.words, t.look_out) for t in terms]
    )
