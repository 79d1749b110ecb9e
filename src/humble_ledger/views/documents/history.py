"""The ledger in order of time."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from msgspec import Struct

from humble_ledger.core.entries import (
    EventEntry,
)


class EventRow(Struct, frozen=True):
    """One line of history."""

    at: str
    subject: str
    words: str


class HistoryDocument(Struct, frozen=True):
    """The history."""

    events: list[EventRow]
    kind: Literal["history"] = "history"
    version: Literal[1] = 1


def history_document(entries: Sequence[EventEntry]) -> HistoryDocument:
    """The history."""
    return HistoryDocument([EventRow(e.at, e.subject, e.words) for e in entries])
