"""Plans that somebody saved: found in a text by the formats, however it was carried about."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.plans.mended_text import mended
from humble_ledger.core.plans.model import Plan
from humble_ledger.engines.contract import PlanFormat, SavedPlan
from humble_ledger.engines.registry import plan_formats
from humble_ledger.errors import UnreadableInput, WrongUsage

SAVED = "file"
MOST_MENDED_LETTERS = 4_000_000  # a text that is larger is taken as it is


@dataclass(frozen=True, slots=True)
class SavedDocument:
    """The plans of a document, the one that is meant, and whether they are routes of one query."""

    plans: tuple[SavedPlan, ...]
    number: int
    lists_routes: bool = False

    @property
    def entry(self) -> PlanEntry:
        """The plan that is meant; the ledger does not have it."""
        return self.entry_of(self.number)

    def entry_of(self, number: int) -> PlanEntry:
        """One of its plans, by its number from 1."""
        found = self.plans[number - 1]
        place = ""
        if len(self.plans) > 1 and not self.lists_routes:
            place = f"statement {number} of {len(self.plans)} in this document"
        entry = PlanEntry(SAVED, "", None, found.statement, (), SAVED, found.plan)
        return replace(entry, place=place)


def saved_in(text: str, wanted: int | None = None) -> SavedDocument | None:
    """The plans in a text; None when it is none.

    Of several the one ``wanted``, else the one that took longest or costs most, is meant.

    Raises:
        UnreadableInput: it looks like a plan and cannot be read.
        WrongUsage: there is no such statement in it.
    """
    form = _format_of(text)
    if form is None:
        return None
    plans = _read(form, text)
    if wanted is not None and not 1 <= wanted <= len(plans):
        raise WrongUsage(
            f"There is no statement {wanted} in this document.",
            f"It has {len(plans)}; name one as  FILE#{len(plans)}",
        )
    routes = bool(getattr(form, "lists_routes", False))
    number = wanted or (1 if routes else _weightiest(plans))
    return SavedDocument(tuple(plans), number, routes)


def _format_of(text: str) -> PlanFormat | None:
    return next((form for form in plan_formats() if form.looks_like(text)), None)


def _read(form: PlanFormat, text: str) -> Sequence[SavedPlan]:
    """The plans as the text tells most: as it is, or with what happened to it undone.

    Raises:
        UnreadableInput: it cannot be read either way; told of the text as it was given.
    """
    failure: UnreadableInput | None = None
    readings: list[Sequence[SavedPlan]] = []
    try:
        readings.append(form.plans_in(form.document(text)))
    except UnreadableInput as error:
        failure = error
    if len(text) <= MOST_MENDED_LETTERS:
        for other in mended(text):
            again = _format_of(other) or form
            try:
                readings.append(again.plans_in(again.document(other)))
            except UnreadableInput:
                continue
    if readings:
        return max(readings, key=_told)
    assert failure is not None  # what was not read has failed
    raise failure


def _told(plans: Sequence[SavedPlan]) -> int:
    """How much a reading tells: steps, figures, conditions. Of equals the first counts."""
    found = 0
    for each in plans:
        for node in each.plan.nodes():
            figures = (node.rows_expected, node.rows_seen, node.cost, node.elapsed)
            found += 1000 + 100 * sum(figure is not None for figure in figures)
            found += sum(len(text) for text in node.conditions.all())
    return found


def _weightiest(plans: Sequence[SavedPlan]) -> int:
    def weight(plan: Plan) -> tuple[float, float]:
        return plan.execution_ms or 0.0, plan.cost_total or 0.0

    heaviest = max(plans, key=lambda each: weight(each.plan))
    return next(n for n, each in enumerate(plans, 1) if each is heaviest)
