"""Symptoms of plans, runs and schema."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Literal

from msgspec import Struct

from humble_ledger.core.entries import SymptomEntry
from humble_ledger.core.estimates.chain import Chain
from humble_ledger.core.results.diagnoses import Diagnoses
from humble_ledger.views.documents.parts import rounded
from humble_ledger.views.wording import in_words


class CauseDocument(Struct, frozen=True):
    """Why."""

    name: str
    detail: str


class LinkRow(Struct, frozen=True):
    """One condition, with what the planner expects of it alone."""

    condition: str
    rows_estimated: float
    share: float


class ChainDocument(Struct, frozen=True):
    """How an estimate came about: each condition alone, all multiplied, all asked together."""

    table: str
    table_rows: float
    conditions: list[LinkRow]
    multiplied_rows_computed: float
    together_rows_estimated: float
    seen_rows: float | None


class NotJudgedRow(Struct, frozen=True):
    """What could not be judged, and why."""

    what: str
    reason: str


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
    subject: str
    chain: ChainDocument | None


class SymptomsDocument(Struct, frozen=True):
    """Symptoms, those of the most wasteful plan first.

    ``captured_ms`` is what all captured queries took; ``unknown`` says what could not be known
    and why; ``probes`` counts the questions asked of planner and catalogue.
    """

    symptoms: list[SymptomRow]
    captured_ms: float | None = None
    not_judged: list[NotJudgedRow] = []
    unknown: list[str] = []
    probes: int = 0
    probes_ms: float = 0.0
    kind: Literal["symptoms"] = "symptoms"
    version: Literal[2] = 2


def diagnoses_document(found: Diagnoses) -> SymptomsDocument:
    """A diagnosis of one, several or all queries."""
    return SymptomsDocument(
        [_symptom(entry) for entry in found.symptoms],
        rounded(found.captured_ms) or None,
        [NotJudgedRow(what, why) for what, why in found.not_judged],
        list(dict.fromkeys(each.unknown for each in found.plans if each.unknown)),
        sum(each.probes for each in found.plans),
        round(sum(each.probes_ms for each in found.plans), 3),
    )


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
        summary=in_words(symptom.summary),
        harmless=symptom.harmless,
        cost_ms=rounded(symptom.cost_ms),
        share=symptom.cost_share,
        evidence=dict(symptom.evidence),
        cause=CauseDocument(symptom.cause.name, in_words(symptom.cause.detail)),
        remedies=list(entry.remedies),
        subject=symptom.subject,
        chain=_chain(symptom.chain),
    )


def _chain(chain: Chain | None) -> ChainDocument | None:
    if chain is None:
        return None
    return ChainDocument(
        chain.table,
        chain.table_rows,
        [LinkRow(link.condition, link.rows, link.share) for link in chain.links],
        chain.product * chain.table_rows,
        chain.together_rows,
        chain.seen_rows,
    )
