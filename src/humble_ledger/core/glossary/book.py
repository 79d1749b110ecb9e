"""The whole glossary."""

from __future__ import annotations

from humble_ledger.core.glossary.figures import CONDITIONS, FIGURES
from humble_ledger.core.glossary.steps import STEPS
from humble_ledger.core.glossary.terms import Term, matching
from humble_ledger.core.glossary.waits import WAITS
from humble_ledger.errors import WrongUsage

BOOK: tuple[Term, ...] = (*STEPS, *FIGURES, *CONDITIONS, *WAITS)


def look_up(wanted: str) -> list[Term]:
    """The terms that someone may mean; all of them for an empty word.

    Raises:
        WrongUsage: the glossary has nothing like it.
    """
    if not wanted.strip():
        return list(BOOK)
    found = matching(BOOK, wanted)
    if not found:
        raise WrongUsage(f'The glossary has no "{wanted}".', "All its words:  humble glossary")
    return found
