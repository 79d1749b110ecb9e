"""One entry of a PostgreSQL log, whatever format it was written in, and the tally of a reading."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import UTC, datetime

_ZONES = {"UTC": UTC, "GMT": UTC, "Z": UTC}
UNREADABLE = "unreadable line"


@dataclass(slots=True)
class LogEntry:
    """An entry with what stood beside it; "" where the format does not tell.

    ``process`` tells the sessions of a log apart; ``stamp`` is the time as written.
    """

    level: str
    message: str
    process: str = ""
    stamp: str = ""
    user: str = ""
    database: str = ""
    application: str = ""
    detail: str = ""

    @property
    def time(self) -> datetime | None:
        """The time of writing; without a zone unless the log says UTC or an offset."""
        return read_time(self.stamp)


@dataclass(slots=True)
class LogTally:
    """What was read: lines, entries, statements kept, and what was passed over and why."""

    lines: int = 0
    entries: int = 0
    kept: int = 0
    passed_over: dict[str, int] = field(default_factory=dict)
    first_unreadable: str = ""

    def pass_over(self, reason: str) -> None:
        """Count something that was not kept."""
        self.passed_over[reason] = self.passed_over.get(reason, 0) + 1

    def unreadable(self, name: str, line: int) -> None:
        """Count a line that belongs to no entry, and remember where the first one stands."""
        self.pass_over(UNREADABLE)
        self.first_unreadable = self.first_unreadable or f"{name}, line {line}"


def read_time(stamp: str) -> datetime | None:
    """«2026-03-01 10:00:00.500 UTC» or seconds since 1970; None when it is neither.

    A zone's short name does not tell its offset, so that only UTC's is taken as one.
    """
    if not stamp:
        return None
    try:
        if stamp.replace(".", "", 1).isdigit():
            return datetime.fromtimestamp(float(stamp), UTC)
        moment, _, zone = stamp.rpartition(" ")
        found = datetime.fromisoformat(moment)
    except (ValueError, OverflowError, OSError):
        return None
    if zone[:1] in "+-" and zone[1:3].isdigit():
        return datetime.fromisoformat(f"{moment}{zone}")
    return found.replace(tzinfo=_ZONES.get(zone))
