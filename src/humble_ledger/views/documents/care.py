"""The ledger's own care."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.results.care import LedgerCheck, Pruned


class LedgerCheckDocument(Struct, frozen=True):
    """A look at every entry of a ledger; ``faults`` in words."""

    file: str
    bytes: int
    entries: dict[str, int]
    faults: list[str]
    kind: Literal["ledger-check"] = "ledger-check"
    version: Literal[1] = 1


class LedgerBackupDocument(Struct, frozen=True):
    """A copy of a ledger."""

    file: str
    bytes: int
    kind: Literal["ledger-backup"] = "ledger-backup"
    version: Literal[1] = 1


class LedgerPrunedDocument(Struct, frozen=True):
    """What was removed of what is older than a moment; would be, when ``only_asked``."""

    before: str
    removed: dict[str, int]
    only_asked: bool
    bytes_before: int
    bytes_after: int
    kind: Literal["ledger-pruned"] = "ledger-pruned"
    version: Literal[1] = 1


def ledger_check_document(found: LedgerCheck) -> LedgerCheckDocument:
    """A check of a ledger."""
    return LedgerCheckDocument(
        found.place, found.size_bytes, dict(found.entries), list(found.faults)
    )


def ledger_pruned_document(found: Pruned) -> LedgerPrunedDocument:
    """What was removed."""
    return LedgerPrunedDocument(
        found.before, dict(found.removed), found.only_asked, found.bytes_before, found.bytes_after
    )
