"""Plans as a server gives them, and as people and logs have them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Protocol

from humble_ledger.core.costs.contract import CostModel
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.candidates.model import Access, Candidate
from humble_ledger.core.routes.exploring import Method
from humble_ledger.core.schema.facts import ServerFacts
from humble_ledger.core.symptoms.case import Rule


@dataclass(frozen=True, slots=True)
class PlanDocument:
    """A plan as read, beside the server's own document it was read from."""

    plan: Plan
    document: object


@dataclass(frozen=True, slots=True)
class SavedPlan:
    """A plan as somebody saved it, with its statement where the document tells it."""

    plan: Plan
    statement: str = ""


@dataclass(frozen=True, slots=True)
class ExplainOptions:
    """How a statement is explained.

    With ``measure`` it is run; with ``allow_writes`` also one that changes data, and what it
    changed is undone. ``settings`` (name, value) hold for this plan alone, the server may not
    use the methods in ``forbidden``, and a run is given up after ``at_most_ms``.
    """

    measure: bool = False
    allow_writes: bool = False
    settings: tuple[tuple[str, str], ...] = ()
    forbidden: frozenset[Method] = frozenset()
    at_most_ms: int | None = None


class PlanFormat(Protocol):
    """How one kind of server writes its plans down, found by `Plan.engine` or by recognition."""

    engine: str
    most_bytes: int
    # On which documentation it rests, "" where it reads a server that runs here.
    rests_on: str
    # Whether the plans of a document are routes of one statement, of which one was taken.
    lists_routes: bool

    @property
    def rules(self) -> Sequence[Rule]:
        """Findings that only this engine's plans have."""
        ...

    def candidates(self, access: Access) -> Iterable[Candidate]:
        """Indexes that only this engine has a use for, for one reading of a table."""
        ...

    def looks_like(self, text: str) -> bool:
        """Whether a text is more likely a plan that was saved from such a server than SQL."""
        ...

    def document(self, text: str) -> object:
        """The document of a saved plan, in whatever form and with whatever around it.

        Raises:
            UnreadableInput: it is none, or breaks off; tells the line and what was expected.
        """
        ...

    def read(self, document: object, version: str = "") -> Plan:
        """The plan in a document; ``version`` is the server's, "" when it is not known.

        Raises:
            UnreadableInput: this is not such a document, or larger than is read.
        """
        ...

    def plans_in(self, document: object) -> Sequence[SavedPlan]:
        """Every plan of a document, in its order: some servers save those of a whole batch.

        Raises:
            UnreadableInput: as `read`.
        """
        ...

    def masked(self, document: object) -> object:
        """The document without the literals in it."""
        ...

    def costs(self, server: ServerFacts) -> CostModel:
        """The cost formulas of such a server; with usual settings where its own are unknown."""
        ...

    def logged(self, document: object | None, text: str, took_ms: float) -> object:
        """The document of a plan that the server logged, as such or as text, with its time.

        Raises:
            UnreadableInput: it is torn.
        """
        ...

    def shape(self, document: object | None, text: str) -> tuple[str, ...]:
        """What tells logged plans of one statement apart, without reading them whole."""
        ...
