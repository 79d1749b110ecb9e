"""Bundles: what was exported, what was imported."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.results.bundles import Bundled


class ExportDocument(Struct, frozen=True):
    """A bundle that was written, with the number of records by kind."""

    file: str
    bytes: int
    masked: bool
    records: dict[str, int]
    kind: Literal["export"] = "export"
    version: Literal[1] = 1


class ImportDocument(Struct, frozen=True):
    """A bundle, or another ledger, that was put into this one: what was new, what was known."""

    file: str
    from_ledger: str
    new: dict[str, int]
    known: dict[str, int]
    kind: Literal["import"] = "import"
    version: Literal[1] = 1


def export_document(found: Bundled) -> ExportDocument:
    """A bundle that was written."""
    return ExportDocument(found.place, found.size_bytes, found.masked, dict(found.records))


def import_document(found: Bundled) -> ImportDocument:
    """A bundle that was read."""
    return ImportDocument(found.place, found.ledger, dict(found.records), dict(found.known))
