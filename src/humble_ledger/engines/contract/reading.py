"""Plan formats of servers that have no engine here: only what reading a saved plan takes.

Whoever writes one for another package gives the three functions of `PlanReader` and names the
class under the entry point group ``humble_ledger.plan_formats``; `complete` adds what a format
of an engine has beside. See docs/formats/plan.md.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Protocol

from humble_ledger.core.costs.contract import CostModel
from humble_ledger.core.costs.unknown import UnknownCosts
from humble_ledger.core.dialect import STANDARD, Dialect
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.candidates.model import Access, Candidate
from humble_ledger.core.schema.facts import ServerFacts
from humble_ledger.core.symptoms.case import Rule
from humble_ledger.engines.contract.plans import PlanFormat, SavedPlan
from humble_ledger.errors import UnreadableInput

MOST_BYTES = 64 * 1024**2


class PlanReader(Protocol):
    """The least that a plan format must have; ``engine`` is the name that its plans bear."""

    engine: str

    def looks_like(self, text: str) -> bool:
        """Whether a text is a plan of this format; asked of every text, so it should be quick."""
        ...

    def read(self, document: object, version: str = "") -> Plan:
        """The plan in a document, which is the whole text unless the format says otherwise.

        Raises:
            UnreadableInput: it is none, or breaks off; tells the place.
        """
        ...

    def masked(self, document: object) -> object:
        """The document without the literals in it."""
        ...


class Reading:
    """A plan format that only reads: what it does not say of itself is said here."""

    engine = ""
    most_bytes = MOST_BYTES
    rules: Sequence[Rule] = ()
    dialect: Dialect = STANDARD  # how an index is written down for such a server
    rests_on: str = ""
    lists_routes: bool = False

    def candidates(self, access: Access) -> Iterable[Candidate]:
        """None of its own."""
        return ()

    def looks_like(self, text: str) -> bool:
        """Nothing, unless a format says so."""
        return False

    def document(self, text: str) -> object:
        """The text itself."""
        return text

    def read(self, document: object, version: str = "") -> Plan:
        """The first of its plans."""
        return self.plans_in(document)[0].plan

    def plans_in(self, document: object) -> Sequence[SavedPlan]:
        """The one plan that is read."""
        return (SavedPlan(self.read(document)),)

    def masked(self, document: object) -> object:
        """Nothing of it, as nobody said what is a literal."""
        return ""

    def costs(self, server: ServerFacts) -> CostModel:
        """Not known."""
        return UnknownCosts()

    def logged(self, document: object | None, text: str, took_ms: float) -> object:
        """No log of such a server is read.

        Raises:
            UnreadableInput: always.
        """
        raise UnreadableInput(f"Plans of {self.engine} are not read from a log.")

    def shape(self, document: object | None, text: str) -> tuple[str, ...]:
        """The lines of the text."""
        return tuple(line.strip() for line in text.splitlines() if line.strip())


# What a reader may say of itself beside the three functions that it must have.
_MAY_HAVE = (
    "most_bytes", "rules", "dialect", "rests_on", "lists_routes", "candidates", "document",
    "plans_in", "costs", "logged", "shape",
)  # fmt: skip


class _Completed(Reading):
    """A reader of another package with what it left out."""

    def __init__(self, reader: PlanReader) -> None:
        self.engine = reader.engine
        self._reader = reader
        for name in _MAY_HAVE:
            if hasattr(reader, name):
                setattr(self, name, getattr(reader, name))

    def looks_like(self, text: str) -> bool:
        return bool(self._reader.looks_like(text))

    def read(self, document: object, version: str = "") -> Plan:
        return self._reader.read(document, version)

    def masked(self, document: object) -> object:
        return self._reader.masked(document)


def complete(reader: PlanReader) -> PlanFormat:
    """A format of another package with all that is asked of one."""
    if isinstance(reader, Reading):
        return reader
    return _Completed(reader)
