"""Predictions against what trials found."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.trials.honesty import Honesty


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
    """All of them; the ratio is predicted over found."""

    median_ratio: float | None
    within_quarter_share: float | None
    predictions: list[CheckedRow]
    kind: Literal["predictions"] = "predictions"
    version: Literal[1] = 1


def predictions_document(found: Honesty) -> PredictionsDocument:
    """All of them."""
    return PredictionsDocument(
        round(found.median_ratio, 4) if found.median_ratio is not None else None,
        round(found.near_share, 4) if found.near_share is not None else None,
        [
            CheckedRow(
                each.trial, each.remedy, each.query, each.way, each.cost_before,
                round(each.cost_predicted, 2), each.cost_found, round(each.ratio, 4),
                round(each.faster, 3) if each.faster is not None else None,
            )
            for each in found.checked
        ],
    )  # fmt: skip
