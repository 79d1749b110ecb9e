"""How the cost of queries grows with their tables."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.results.growth import Growth
from humble_ledger.core.routes.exploring import said


class SizeRow(Struct, frozen=True):
    """The planner's estimate at so many times the rows of now."""

    factor: float
    cost: float


class FlipRow(Struct, frozen=True):
    """Another plan from this factor on."""

    factor: float
    cost: float
    plan_before: str
    plan_after: str


class WorthRow(Struct, frozen=True):
    """A proposed index: times cheaper now and at the last size, and where that turns to paying."""

    remedy: str
    index: str
    gain_now: float
    gain_then: float
    pays_now: bool
    turns: list[float]


class GrownQueryRow(Struct, frozen=True):
    """One query; ``power`` 1 grows in step with the rows."""

    id: str
    power: float
    worse_than_linear: bool
    sizes: list[SizeRow]
    flips: list[FlipRow]
    indexes: list[WorthRow] = []


class GrowthDocument(Struct, frozen=True):
    """Tables grown step by step; ``unaffected`` queries read none of them."""

    tables: dict[str, float]
    queries: list[GrownQueryRow]
    unaffected: list[str]
    left_out: list[tuple[str, str]]
    cautions: list[str]
    plans_asked: int
    longer_history: bool = False
    kind: Literal["growth"] = "growth"
    version: Literal[1] = 1


def growth_document(found: Growth) -> GrowthDocument:
    """A study of growth."""
    return GrowthDocument(
        dict(found.tables),
        [
            GrownQueryRow(
                q.query,
                round(q.power, 4),
                q.worse_than_linear,
                [SizeRow(round(s.factor, 4), round(s.cost, 2)) for s in q.sizes],
                [
                    FlipRow(
                        round(f.factor, 4), round(f.first.cost, 2), said(f.last.plan),
                        said(f.first.plan),
                    )
                    for f in q.flips
                ],
                [
                    WorthRow(
                        w.remedy, w.index, round(w.gain_now, 3), round(w.gain_then, 3),
                        w.pays_now, [round(turn, 4) for turn in w.turns],
                    )
                    for w in q.worths
                ],
            )
            for q in found.queries
        ],
        list(found.unaffected),
        list(found.left_out),
        list(found.notes),
        found.asked,
        found.longer_history,
    )  # fmt: skip
