"""Two plans side by side."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.plans.arithmetic import StepMetrics
from humble_ledger.core.plans.comparison import Figures
from humble_ledger.core.plans.model import Node
from humble_ledger.core.results.plans import PlanComparison


class BeforeAfter(Struct, frozen=True):
    """A figure of two plans; ``ratio`` is after/before."""

    before: float | None
    after: float | None
    ratio: float | None


class ComparedStep(Struct, frozen=True):
    """One step of a comparison; rows are over all loops."""

    no: int
    operation: str
    name: str
    self_cost: float
    self_ms: float | None
    rows: float | None


class StepPairRow(Struct, frozen=True):
    """What became of a step: same, moved, replaced, gone or new."""

    change: str
    before: ComparedStep | None
    after: ComparedStep | None


class ComparisonDocument(Struct, frozen=True):
    """Two plans held against each other."""

    before: str
    after: str
    same_shape: bool
    cost: BeforeAfter
    time_ms: BeforeAfter
    rows: BeforeAfter
    pages: BeforeAfter
    calls: BeforeAfter
    mean_ms: BeforeAfter
    steps: list[StepPairRow]
    kind: Literal["comparison"] = "comparison"
    version: Literal[2] = 2


def comparison_document(found: PlanComparison) -> ComparisonDocument:
    """Two plans, step against step."""
    whole = found.comparison
    return ComparisonDocument(
        before=found.before.id,
        after=found.after.id,
        same_shape=whole.same_shape,
        cost=_ratio(whole.cost),
        time_ms=_ratio(whole.time_ms),
        rows=_ratio(whole.rows),
        pages=_ratio(whole.pages),
        calls=_ratio(found.runs("calls")),
        mean_ms=_ratio(found.runs("mean_ms")),
        steps=[
            StepPairRow(
                pair.change.value, _compared(pair.before, pair.before_account),
                _compared(pair.after, pair.after_account),
            )
            for pair in whole.pairs
        ],
    )  # fmt: skip


def _ratio(figures: Figures) -> BeforeAfter:
    return BeforeAfter(figures.before, figures.after, figures.ratio)


def _compared(node: Node | None, account: StepMetrics | None) -> ComparedStep | None:
    if node is None or account is None:
        return None
    return ComparedStep(
        node.no, node.operation.value, node.name, account.self_cost, account.self_ms, account.rows
    )
