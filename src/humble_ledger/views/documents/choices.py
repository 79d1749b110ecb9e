"""A choice of indexes under a budget."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.entries import RemedyEntry
from humble_ledger.core.results.proposals import ChosenIndexes
from humble_ledger.views.documents.remedies import RemedyRow, remedy_row


class BudgetRow(Struct, frozen=True):
    """The limits; null where there is none."""

    size_bytes: int | None
    indexes: int | None
    extra_writes_share: float | None


class PickedRow(Struct, frozen=True):
    """A chosen index: what it saves beside all the others, and for which queries."""

    remedy: str
    index: str
    size_bytes: int
    adds_ms: float | None
    adds_share: float
    queries: list[str]


class LeftOutRow(Struct, frozen=True):
    """An index that was not chosen, and why."""

    index: str
    size_bytes: int
    alone_ms: float | None
    alone_share: float
    adds_ms: float | None
    why: str


class EffectRow(Struct, frozen=True):
    """What the choice does to one query."""

    id: str
    captured_ms: float | None
    cost_before: float
    cost_predicted: float
    indexes: list[str]


class CurveRow(Struct, frozen=True):
    """The captured time that indexes of so many bytes save together."""

    size_bytes: int
    saved_ms: float | None
    saved_share: float
    added: str


class ChoiceDocument(Struct, frozen=True):
    """A choice: what should be saved if time follows the cost.

    Milliseconds are of captured time, and null when none was captured; shares are of all of it,
    or then of all cost. ``unstudied`` are pairs of a query that could not be studied, and why.
    """

    budget: BudgetRow
    size_bytes: int
    saved_ms: float | None
    saved_share: float
    captured_ms: float | None
    weights: Literal["captured time", "cost"]
    extra_writes_share: float
    complete: bool
    at_least_share: float
    picked: list[PickedRow]
    effects: list[EffectRow]
    left_out: list[LeftOutRow]
    curve: list[CurveRow]
    writers: list[str]
    remedies: list[RemedyRow]
    unstudied: list[tuple[str, str]] = []
    cautions: list[str] = []
    kind: Literal["choice"] = "choice"
    version: Literal[2] = 2


def _all(chosen: ChosenIndexes) -> list[RemedyEntry]:
    return [*chosen.remedies.values(), *chosen.removals, *chosen.rewrites]


def choice_document(chosen: ChosenIndexes) -> ChoiceDocument:
    """A choice with its reasons."""
    choice, budget = chosen.choice, chosen.budget

    def ms(value: float) -> float | None:
        return round(value, 3) if chosen.timed else None

    def share(value: float) -> float:
        return round(value / choice.captured_ms, 4) if choice.captured_ms else 0.0

    return ChoiceDocument(
        budget=BudgetRow(budget.size_bytes, budget.indexes, budget.extra_writes),
        size_bytes=sum(p.option.size_bytes for p in choice.picked),
        saved_ms=ms(choice.saved_ms),
        saved_share=share(choice.saved_ms),
        captured_ms=ms(choice.captured_ms),
        weights="captured time" if chosen.timed else "cost",
        extra_writes_share=round(choice.extra_writes, 4),
        complete=choice.complete,
        at_least_share=round(choice.at_least, 4),
        picked=[
            PickedRow(
                chosen.remedies[p.option.design].id,
                p.option.design.words,
                p.option.size_bytes,
                ms(p.adds_ms),
                share(p.adds_ms),
                list(p.queries),
            )
            for p in choice.picked
        ],
        effects=[
            EffectRow(
                e.query,
                ms(e.captured_ms),
                e.cost_before,
                round(e.cost_after, 2),
                [chosen.remedies[d].id for d in e.designs],
            )
            for e in choice.effects
        ],
        left_out=[
            LeftOutRow(
                each.option.design.words,
                each.option.size_bytes,
                ms(each.alone_ms),
                share(each.alone_ms),
                ms(each.adds_ms),
                each.why,
            )
            for each in choice.left_out
        ],
        curve=[
            CurveRow(point.size_bytes, ms(point.saved_ms), share(point.saved_ms), point.added.words)
            for point in choice.curve
        ],
        writers=[query for query, _ in chosen.writers],
        remedies=[remedy_row(entry) for entry in _all(chosen)],
        unstudied=list(chosen.left_out),
        cautions=list(chosen.cautions),
    )
