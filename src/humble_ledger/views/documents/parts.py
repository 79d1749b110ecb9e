"""Values as the documents write them."""

from __future__ import annotations

from datetime import datetime


def iso(moment: datetime | None) -> str | None:
    """A moment as ISO 8601, to the millisecond."""
    return moment.isoformat(timespec="milliseconds") if moment else None


def rounded(value: float | None) -> float | None:
    """A figure without digits that mean nothing."""
    return None if value is None else round(value, 4)
