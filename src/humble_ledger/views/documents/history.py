"""The ledger in order of time."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.results.history import History


class EventRow(Struct, frozen=True):
    """One line of history; ``person`` and ``machine`` are "" where nobody knows."""

    at: str
    subject: str
    words: str
    person: str = ""
    machine: str = ""


class HistoryDocument(Struct, frozen=True):
    """The history."""

    events: list[EventRow]
    count: int
    kind: Literal["history"] = "history"
    version: Literal[1] = 1


def history_document(found: History) -> HistoryDocument:
    """The history, or its newest lines."""
    rows = [EventRow(e.at, e.subject, e.words, e.person, e.machine) for e in found.events]
    return HistoryDocument(rows, found.count)
