"""Predictions against what trials found."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.trials.honesty import Checked, Honesty


class CheckedRow(Struct, frozen=True):
    """One prediction that a trial checked."""

    trial: str
    remedy: str
    query: str
    way: str
    cost_before: float
    cost_predicted: float
    cost_found: float
    ratio: float
    times_faster: float | None


class PredictionsDocument(Struct, frozen=True):
    """All that predicted a change or met one; the ratio is predicted over found.

    ``unchanged`` are those that rightly said that nothing would change; they count in neither
    figure.
    """

    median_ratio: float | None
    within_quarter_share: float | None
    predictions: list[CheckedRow]
    unchanged: list[CheckedRow] = []
    kind: Literal["predictions"] = "predictions"
    version: Literal[1] = 1


def predictions_document(found: Honesty) -> PredictionsDocument:
    """All of them."""
    return PredictionsDocument(
        round(found.median_ratio, 4) if found.median_ratio is not None else None,
        round(found.near_share, 4) if found.near_share is not None else None,
        [_row(each) for each in found.checked],
        [_row(each) for each in found.unchanged],
    )


def _row(each: Checked) -> CheckedRow:
    return CheckedRow(
        each.trial, each.remedy, each.query, each.way, each.cost_before,
        round(each.cost_predicted, 2), each.cost_found, round(each.ratio, 4),
        round(each.faster, 3) if each.faster is not None else None,
    )  # fmt: skip
