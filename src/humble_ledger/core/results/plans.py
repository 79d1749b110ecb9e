"""A plan with what surrounds it, beside others, and the other ways to run its statement."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from humble_ledger.core.entries import (
    PlanEntry,
)
from humble_ledger.core.plans.comparison import Comparison, Figures
from humble_ledger.core.routes.deciding import Decision
from humble_ledger.core.routes.exploring import Method
from humble_ledger.core.schema.facts import ServerFacts, TableFacts, TableName
from humble_ledger.core.workload.usage import Usage


@dataclass(frozen=True, slots=True)
class Granted:
    """What a server grants (bytes), and the setting that says so."""

    setting: str
    size_bytes: float


@dataclass(frozen=True, slots=True)
class PlanSurroundings:
    """A plan with what the server knows of its tables now.

    Without a server ``tables`` is empty and ``server`` None. ``memory`` is what a sort may use of
    it, as the plan was made with it.
    """

    plan: PlanEntry
    tables: Mapping[TableName, TableFacts]
    server: ServerFacts | None
    memory: Granted | None = None


@dataclass(frozen=True, slots=True)
class Route:
    """One way to run a statement: its plan, and the methods forbidden to bring it to light.

    ``stopped_ms`` tells that it was to be measured and took longer than that.
    """

    plan: PlanEntry
    avoided: frozenset[Method]
    stopped_ms: float | None = None


@dataclass(frozen=True, slots=True)
class Routes:
    """The ways to run a statement, the server's own choice first, then by estimated cost.

    ``found`` different ones came to light in ``asked`` questions, of which the cheapest are
    in ``routes``; ``decision`` is between the first two, None when there is but one.
    """

    query: str
    statement: str
    routes: tuple[Route, ...]
    found: int
    asked: int
    decision: Decision | None


@dataclass(frozen=True, slots=True)
class PlanComparison:
    """Two plans and what became of their steps.

    Of two captures, ``usages`` has the query's runs in each.
    """

    before: PlanEntry
    after: PlanEntry
    comparison: Comparison
    usages: tuple[Usage | None, Usage | None] = (None, None)

    def runs(self, figure: str) -> Figures:
        """One figure of the runs in both captures: calls, mean_ms, p95_ms."""
        one, other = (getattr(usage, figure, None) for usage in self.usages)
        return Figures(one, other)
