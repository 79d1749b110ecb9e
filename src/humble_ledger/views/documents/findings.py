"""Symptoms and remedies."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Literal

from msgspec import Struct

from humble_ledger.core.entries import (
    RemedyEntry,
    SymptomEntry,
)
from humble_ledger.views.documents.parts import rounded


class CauseDocument(Struct, frozen=True):
    """Why."""

    name: str
    detail: str


class SymptomRow(Struct, frozen=True):
    """One symptom; ``cost_ms`` is the time a better plan would avoid at most."""

    id: str
    query: str | None
    plan: str | None
    capture: str | None
    node: int
    name: str
    summary: str
    harmless: bool
    cost_ms: float | None
    share: float | None
    evidence: dict[str, Any]
    cause: CauseDocument
    remedies: list[str]


class SymptomsDocument(Struct, frozen=True):
    """Symptoms."""

    symptoms: list[SymptomRow]
    kind: Literal["symptoms"] = "symptoms"
    version: Literal[1] = 1


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


def symptoms_document(entries: Iterable[SymptomEntry]) -> SymptomsDocument:
    """Symptoms."""
    return SymptomsDocument([_symptom(entry) for entry in entries])


def _symptom(entry: SymptomEntry) -> SymptomRow:
    symptom = entry.symptom
    return SymptomRow(
        id=entry.id,
        query=entry.query,
        plan=entry.plan,
        capture=entry.capture,
        node=symptom.node,
        name=symptom.name,
        summary=symptom.summary,
        harmless=symptom.harmless,
        cost_ms=rounded(symptom.cost_ms),
        share=symptom.cost_share,
        evidence=dict(symptom.evidence),
        cause=CauseDocument(symptom.cause.name, symptom.cause.detail),
        remedies=list(entry.remedies),
    )


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
