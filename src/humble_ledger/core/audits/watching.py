"""What a watch tells: one event at a time, and what it saw look by look."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from humble_ledger.core.audits.findings import Finding
from humble_ledger.core.messages import Told


class What(StrEnum):
    """What an event says."""

    BEGUN = "begun"
    APPEARED = "appeared"
    GONE = "gone"
    UNREACHABLE = "unreachable"
    DELIVERS = "delivers"
    STAYS = "stays"  # it does no clear harm, and no clear good
    TAKEN_BACK = "taken-back"


@dataclass(frozen=True, slots=True)
class WatchEvent:
    """Something that has changed since the look before; ``at`` in UTC."""

    at: str
    what: What
    words: Told
    finding: Finding | None = None
    trial: str = ""


@dataclass(frozen=True, slots=True)
class Look:
    """One look: seconds since the watch began, calls in a second, and their mean time (ms).

    None where nothing was captured.
    """

    at_s: float
    calls_per_s: float | None
    mean_ms: float | None


@dataclass(frozen=True, slots=True)
class Watched:
    """A whole watch; ``taken_back_at_s`` is when the change that was watched was undone."""

    looks: tuple[Look, ...]
    events: tuple[WatchEvent, ...]
    trial: str = ""
    taken_back_at_s: float | None = None
