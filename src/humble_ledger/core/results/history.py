"""The ledger in order of time."""

from __future__ import annotations

from dataclasses import dataclass

from humble_ledger.core.entries import (
    EventEntry,
)


@dataclass(frozen=True, slots=True)
class History:
    """Lines of the history in order of time: the newest of ``count``."""

    events: tuple[EventEntry, ...]
    count: int
