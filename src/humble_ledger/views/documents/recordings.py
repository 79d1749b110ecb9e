"""A recording that was made."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.results.recordings import Recording


class RefusedRow(Struct, frozen=True):
    """What a target did not answer, with its reason."""

    what: str
    reason: str


class RecordingDocument(Struct, frozen=True):
    """A file of answers."""

    file: str
    statements: list[str]
    answers: int
    trials: int
    masked: bool
    refused: list[RefusedRow]
    kind: Literal["recording"] = "recording"
    version: Literal[1] = 1


def recording_document(found: Recording) -> RecordingDocument:
    """A recording that was made."""
    refused = [RefusedRow(what, why) for what, why in found.refused]
    return RecordingDocument(
        found.path, list(found.statements), found.answers, found.trials, found.masked, refused
    )
