"""Audits: promises of settled trials, and how they stand."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from msgspec import Struct

from humble_ledger.core.audits.promises import PromiseToday


class PromiseRow(Struct, frozen=True):
    """What a settled trial promised for one query, and how that stands."""

    trial: str
    query: str
    remedies: list[str]
    settled_at: str
    standing: str
    why: str
    cost_before: float | None
    cost_promised: float | None
    cost_now: float | None
    time_ratio: float | None


class AuditDocument(Struct, frozen=True):
    """An audit."""

    promises: list[PromiseRow]
    kind: Literal["audit"] = "audit"
    version: Literal[1] = 1


def audit_document(found: Sequence[PromiseToday]) -> AuditDocument:
    """An audit."""
    return AuditDocument(
        [
            PromiseRow(
                each.promise.trial,
                each.promise.query,
                list(each.promise.remedies),
                each.promise.settled_at,
                each.standing.value,
                each.words,
                each.promise.cost_before,
                each.promise.cost_promised,
                each.cost_now,
                each.promise.ratio,
            )
            for each in found
        ]
    )
