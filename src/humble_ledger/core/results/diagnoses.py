"""What rules found: in one plan, and in a whole workload with its schema."""

from __future__ import annotations

from dataclasses import dataclass

from humble_ledger.core.entries import (
    PlanEntry,
    SymptomEntry,
)


@dataclass(frozen=True, slots=True)
class Diagnosis:
    """A plan with what was found in it and in the runs of its query.

    ``captured_ms`` is what the query took in all its captured runs (0 when it was not
    captured). ``what`` is how it was asked for. ``unknown`` says what could not be judged, and
    why. ``probes`` counts the questions asked of the planner, which took ``probes_ms``;
    ``sent_by`` is the place of the application that sends the query, "" where it is not known.
    """

    plan: PlanEntry
    symptoms: tuple[SymptomEntry, ...]
    captured_ms: float = 0.0
    unknown: str = ""
    what: str = ""
    probes: int = 0
    probes_ms: float = 0.0
    sent_by: str = ""

    def wasted_ms(self, entry: SymptomEntry) -> float:
        """The time a symptom wastes, over all captured runs where these are known."""
        symptom = entry.symptom
        if symptom.harmless:
            return 0.0
        wasted = symptom.cost_ms or 0.0
        if entry.plan is None or not self.captured_ms:
            return wasted
        if symptom.cost_share is not None:
            return symptom.cost_share * self.captured_ms
        took = self.plan.plan.execution_ms or 0.0
        return min(wasted / took, 1.0) * self.captured_ms if took else wasted

    @property
    def name(self) -> str:
        """The query, else the plan, else the file it was read from."""
        if self.plan.query:
            return self.plan.query
        return self.what if self.what and self.plan.origin == "file" else self.plan.id

    @property
    def wasted_in_all_ms(self) -> float:
        """What all its symptoms waste; never more than was captured."""
        whole = sum(self.wasted_ms(entry) for entry in self.symptoms)
        return min(whole, self.captured_ms) if self.captured_ms else whole


@dataclass(frozen=True, slots=True)
class Diagnoses:
    """What was found in plans, those first that waste most; in the workload, in the schema.

    ``captured_ms`` is what all captured queries took together; ``not_judged`` has what could
    not be judged, with the reason.
    """

    plans: tuple[Diagnosis, ...]
    workload: tuple[SymptomEntry, ...] = ()
    schema: tuple[SymptomEntry, ...] = ()
    captured_ms: float = 0.0
    not_judged: tuple[tuple[str, str], ...] = ()

    @property
    def symptoms(self) -> tuple[SymptomEntry, ...]:
        """All of them, in the order in which they are told."""
        of_plans = (entry for each in self.plans for entry in each.symptoms)
        return (*of_plans, *self.workload, *self.schema)
