"""Plans that somebody saved: found in a text by the formats, however it was carried about."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.plans.mended_text import mended, plainness
from humble_ledger.core.plans.model import Operation, Plan
from humble_ledger.engines.contract import PlanFormat, SavedPlan
from humble_ledger.engines.registry import plan_formats
from humble_ledger.errors import UnreadableInput, WrongUsage

SAVED = "file"
# Whatever a reader stumbles over: a number without end, a key of no name.
_STUMBLED = (ValueError, TypeError, KeyError, IndexError, AttributeError, ArithmeticError,
             RecursionError)  # fmt: skip
MOST_MENDED_LETTERS = 400_000  # a text that is larger is taken as it is


@dataclass(frozen=True, slots=True)
class SavedDocument:
    """The plans of a document, the one that is meant, and whether they are routes of one query.

    ``chosen`` tells that it was named; else it is the one that takes or costs most. ``read_by``
    is what the format rests on.
    """

    plans: tuple[SavedPlan, ...]
    number: int
    lists_routes: bool = False
    chosen: bool = False
    read_by: str = ""

    @property
    def entry(self) -> PlanEntry:
        """The plan that is meant; the ledger does not have it."""
        return self.entry_of(self.number)

    def entry_of(self, number: int) -> PlanEntry:
        """One of its plans, by its number from 1."""
        found = self.plans[number - 1]
        place = ""
        if len(self.plans) > 1 and not self.lists_routes:
            most = "" if self.chosen else ", the costliest"
            place = f"statement {number} of {len(self.plans)} in this document{most}"
        entry = PlanEntry(SAVED, "", None, found.statement, (), SAVED, found.plan)
        return replace(entry, place=place, read_by=self.read_by)


def saved_in(text: str, wanted: int | None = None) -> SavedDocument | None:
    """The plans in a text; None when it is none.

    Of several the one ``wanted``, else the one that took longest or costs most, is meant.

    Raises:
        UnreadableInput: it looks like a plan and cannot be read.
        WrongUsage: there is no such statement in it.
    """
    readings = [text, *(mended(text) if len(text) <= MOST_MENDED_LETTERS else ())]
    known = [(form, each) for each in readings if (form := _format_of(each)) is not None]
    if not known:
        return None
    form = known[0][0]
    plans = _read(known)
    if wanted is not None and not 1 <= wanted <= len(plans):
        raise WrongUsage(
            f"There is no statement {wanted} in this document.",
            f"It has {len(plans)}; name one as  FILE#{len(plans)}",
        )
    number = wanted or (1 if form.lists_routes else _weightiest(plans))
    return SavedDocument(tuple(plans), number, form.lists_routes, wanted is not None, form.rests_on)


def _format_of(text: str) -> PlanFormat | None:
    return next((form for form in plan_formats() if form.looks_like(text)), None)


def _read(known: Sequence[tuple[PlanFormat, str]]) -> Sequence[SavedPlan]:
    """The plans as a text tells most: as it is, or with what happened to it undone.

    Raises:
        UnreadableInput: it cannot be read either way; told of the text as it was given.
    """
    failure: UnreadableInput | None = None
    readings: list[tuple[int, Sequence[SavedPlan]]] = []
    for form, text in known:
        try:
            plans = form.plans_in(form.document(text))
        except UnreadableInput as error:
            failure = failure or error
            continue
        except _STUMBLED as error:
            failure = failure or UnreadableInput(
                f"This looks like a plan of {form.engine}, but a part of it is not as a server "
                f"writes it ({type(error).__name__}: {str(error)[:80]}).",
                "Is the text whole? Save it once more, as it was given.",
            )
            continue
        readings.append((_told(plans), plans))
    if readings:
        return max(readings, key=lambda each: each[0])[1]
    assert failure is not None  # what was not read has failed
    raise failure


def _told(plans: Sequence[SavedPlan]) -> int:
    """How much a reading tells: steps, figures, conditions. Of equals the first counts."""
    found = 0
    for each in plans:
        for node in each.plan.nodes():
            figures = (node.rows_expected, node.rows_seen, node.cost, node.elapsed)
            found += 1000 + 100 * sum(figure is not None for figure in figures)
            found += 50 * (bool(node.relation) + bool(node.index))
            found -= 100 * (node.operation is Operation.OTHER)
            found += sum(plainness(text) for text in node.conditions.all())
    return found


def _weightiest(plans: Sequence[SavedPlan]) -> int:
    def weight(plan: Plan) -> tuple[float, float]:
        return plan.execution_ms or 0.0, plan.cost_total or 0.0

    heaviest = max(plans, key=lambda each: weight(each.plan))
    return next(n for n, each in enumerate(plans, 1) if each is heaviest)
