"""A choice of indexes under a budget."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.entries import RemedyEntry
from humble_ledger.core.remedies.choice.weights import Weights
from humble_ledger.core.results.proposals import ChosenIndexes
from humble_ledger.views.documents.remedies import RemedyRow, remedy_row
from humble_ledger.views.wording import in_words


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

    Milliseconds are of captured time, and null when queries count by something else; shares are
    of all weight. ``plans_asked`` were made by the planner, ``took_ms`` is the time for all of it.
    ``unstudied`` are pairs of a query that could not be studied, and why.
    """

    budget: BudgetRow
    size_bytes: int
    saved_ms: float | None
    saved_share: float
    captured_ms: float | None
    weights: Literal["captured time", "cost", "calls", "equally"]
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
    least_gain_share: float = 0.0
    plans_asked: int = 0
    took_ms: float = 0.0
    stopped_early: bool = False
    kind: Literal["choice"] = "choice"
    version: Literal[3] = 3


_Words = Literal["captured time", "cost", "calls", "equally"]
_WORDS: dict[Weights, _Words] = {
    Weights.TIME: "captured time",
    Weights.COST: "cost",
    Weights.CALLS: "calls",
    Weights.EQUALLY: "equally",
}


def _all(chosen: ChosenIndexes) -> list[RemedyEntry]:
    return [*chosen.remedies.values(), *chosen.removals, *chosen.rewrites]


def choice_document(chosen: ChosenIndexes) -> ChoiceDocument:
    """A choice with its reasons."""
    choice, budget = chosen.choice, chosen.budget

    def ms(value: float) -> float | None:
        return round(value, 3) if chosen.weights is Weights.TIME else None

    def share(value: float) -> float:
        return round(value / choice.weight, 4) if choice.weight else 0.0

    return ChoiceDocument(
        budget=BudgetRow(budget.size_bytes, budget.indexes, budget.extra_writes),
        size_bytes=sum(p.option.size_bytes for p in choice.picked),
        saved_ms=ms(choice.saved),
        saved_share=share(choice.saved),
        captured_ms=ms(choice.weight),
        weights=_WORDS[chosen.weights],
        extra_writes_share=round(choice.extra_writes, 4),
        complete=choice.complete,
        at_least_share=round(choice.at_least, 4),
        picked=[
            PickedRow(
                chosen.remedies[p.option.design].id,
                p.option.design.words,
                p.option.size_bytes,
                ms(p.adds),
                share(p.adds),
                list(p.queries),
            )
            for p in choice.picked
        ],
        effects=[
            EffectRow(
                e.query,
                ms(e.weight),
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
                ms(each.alone),
                share(each.alone),
                ms(each.adds),
                in_words(each.why),
            )
            for each in choice.left_out
        ],
        curve=[
            CurveRow(point.size_bytes, ms(point.saved), share(point.saved), point.added.words)
            for point in choice.curve
        ],
        writers=[query for query, _ in chosen.writers],
        remedies=[remedy_row(entry) for entry in _all(chosen)],
        unstudied=list(chosen.left_out),
        cautions=[in_words(each) for each in chosen.cautions],
        least_gain_share=chosen.least_gain,
        plans_asked=chosen.plans_asked,
        took_ms=round(chosen.took_ms, 1),
        stopped_early=chosen.stopped_early,
    )
