"""The waits of a server as terms of the glossary."""

from __future__ import annotations

from humble_ledger.core.glossary.terms import Term, TermKind
from humble_ledger.core.workload.waits import EVENTS, KINDS, WaitMeaning


def _term(name: str, meaning: WaitMeaning) -> Term:
    words = f"Waiting for: {meaning.words}."
    remedy = f"Usual remedy: {meaning.remedy}." if meaning.remedy else ""
    return Term(name, TermKind.WAIT, words, remedy)


WAITS: tuple[Term, ...] = tuple(
    _term(name, meaning) for table in (KINDS, EVENTS) for name, meaning in table.items()
)
