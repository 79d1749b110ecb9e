"""Audits: promises of settled trials, and how they stand."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.audits.findings import Audit
from humble_ledger.views.wording import in_words


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


class FindingRow(Struct, frozen=True):
    """Something that is not as it was; ``evidence`` names what it rests on, ``next`` a command.

    ``plan_difference`` tells old from new steps by their first letter.
    """

    kind: str
    subject: str
    words: str
    evidence: list[str]
    next: str
    plan_difference: list[str]


class AuditDocument(Struct, frozen=True):
    """An audit; of ``predictions_checked`` this share was within a quarter of what was found."""

    promises: list[PromiseRow]
    findings: list[FindingRow]
    not_looked_at: list[str]
    predictions_checked: int
    predictions_near_share: float | None
    kind: Literal["audit"] = "audit"
    version: Literal[1] = 1


def audit_document(audit: Audit) -> AuditDocument:
    """An audit."""
    found, honesty = audit.promises, audit.honesty
    return AuditDocument(
        [
            PromiseRow(
                each.promise.trial,
                each.promise.query,
                list(each.promise.remedies),
                each.promise.settled_at,
                each.standing.value,
                in_words(each.words),
                each.promise.cost_before,
                each.promise.cost_promised,
                each.cost_now,
                each.promise.ratio,
            )
            for each in found
        ],
        [
            FindingRow(
                each.kind.value, each.subject, in_words(each.words), list(each.evidence), each.next,
                list(each.details),
            )
            for each in audit.findings
        ],
        list(audit.not_looked_at),
        len(honesty.checked) if honesty is not None else 0,
        honesty.near_share if honesty is not None else None,
    )  # fmt: skip
