"""A watch, event by event: one document on each line."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.audits.watching import WatchEvent
from humble_ledger.views.wording import in_words


class WatchEventDocument(Struct, frozen=True):
    """One event; ``finding`` is the kind of what appeared, "" of other events."""

    at: str
    event: str
    words: str
    finding: str
    subject: str
    evidence: list[str]
    next: str
    trial: str
    kind: Literal["watch-event"] = "watch-event"
    version: Literal[1] = 1


def watch_event_document(event: WatchEvent) -> WatchEventDocument:
    """One event."""
    finding = event.finding
    return WatchEventDocument(
        event.at,
        event.what.value,
        in_words(event.words),
        finding.kind.value if finding is not None else "",
        finding.subject if finding is not None else "",
        list(finding.evidence) if finding is not None else [],
        finding.next if finding is not None else "",
        event.trial,
    )
