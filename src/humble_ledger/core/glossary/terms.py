"""A term of the glossary, and finding one by the words people type."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum


class TermKind(StrEnum):
    """What a term is about."""

    STEP = "step"
    FIGURE = "figure"
    CONDITION = "condition"
    WAIT = "wait"


@dataclass(frozen=True, slots=True)
class Term:
    """A term in two to five plain sentences; ``look_out`` is what to look out for.

    ``also`` are other names under which it is asked for.
    """

    name: str
    kind: TermKind
    words: str
    look_out: str = ""
    also: tuple[str, ...] = ()

    @property
    def names(self) -> tuple[str, ...]:
        """All its names, in lower case."""
        return tuple(each.lower() for each in (self.name, *self.also))


def matching(terms: Iterable[Term], wanted: str) -> list[Term]:
    """The terms of that name; else those whose name has the words; else those that mention them."""
    asked = " ".join(wanted.lower().replace("_", " ").replace("-", " ").split())
    known = list(terms)

    def plain(names: Iterable[str]) -> list[str]:
        return [name.replace("_", " ").replace("-", " ") for name in names]

    exact = [term for term in known if asked in plain(term.names)]
    if exact:
        return exact
    partly = [term for term in known if any(asked in name for name in plain(term.names))]
    if partly:
        return partly
    return [term for term in known if asked and asked in f"{term.words} {term.look_out}".lower()]
