"""Remedies with their predictions."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

from msgspec import Struct

from humble_ledger.core.entries import (
    RemedyEntry,
)


class PredictionRow(Struct, frozen=True):
    """What a remedy should do to one query, in the server's cost units."""

    id: str
    cost_before: float
    cost_predicted: float
    way: str
    step: str
    route: str
    caution: str


class RemedyRow(Struct, frozen=True):
    """One remedy."""

    id: str
    type: str
    summary: str
    reason: str
    apply: list[str]
    revert: list[str]
    queries: list[PredictionRow]
    size_bytes_predicted: int | None
    upkeep: dict[str, float | int | None]
    status: str


class RemediesDocument(Struct, frozen=True):
    """Remedies."""

    remedies: list[RemedyRow]
    kind: Literal["remedies"] = "remedies"
    version: Literal[1] = 1


def remedies_document(entries: Iterable[RemedyEntry]) -> RemediesDocument:
    """Remedies."""
    return RemediesDocument([_remedy(entry) for entry in entries])


def _remedy(entry: RemedyEntry) -> RemedyRow:
    remedy = entry.remedy
    return RemedyRow(
        id=entry.id,
        type=remedy.type.value,
        summary=remedy.summary,
        reason=remedy.reason,
        apply=list(remedy.apply),
        revert=list(remedy.revert),
        queries=[
            PredictionRow(
                p.query,
                p.cost_before,
                round(p.cost_predicted, 2),
                p.way,
                p.step,
                p.route,
                p.caution,
            )
            for p in remedy.predictions
        ],
        size_bytes_predicted=remedy.size_bytes_predicted,
        upkeep={
            "inserted_rows": remedy.upkeep.inserted_rows,
            "updated_rows": remedy.upkeep.updated_rows,
            "in_page_share": remedy.upkeep.in_page_share,
        },
        status=entry.status,
    )
