"""Windows of time and other ways to choose runs."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta

from humble_ledger.core.statements.tokens import TokenKind, meaningful, unquoted
from humble_ledger.errors import WrongUsage

_AGO = re.compile(r"(\d+(?:\.\d+)?)\s*(s|min|m|h|d|w)")
_SECONDS = {"s": 1, "m": 60, "min": 60, "h": 3600, "d": 86_400, "w": 7 * 86_400}


@dataclass(frozen=True, slots=True)
class RunChoice:
    """Which runs count: begun from ``since`` on and before ``until``, by whom; "" is anybody.

    Moments count to the minute in which a run began. ``source`` is a kind of source (log,
    server, script, live, application), "" all of them; ``captures`` numbers from one to another,
    inclusive.
    """

    since: datetime | None = None
    until: datetime | None = None
    user: str = ""
    application: str = ""
    source: str = ""
    captures: tuple[int, int] | None = None

    @property
    def everything(self) -> bool:
        """Whether nothing is left out."""
        return replace(self, source="") == RunChoice()


def parse_moment(text: str, now: datetime | None = None) -> datetime:
    """A moment: "2026-03-01", "2026-03-01 10:30", or so long ago: "90s", "30m", "2h", "3d".

    Without a zone it is UTC.

    Raises:
        WrongUsage: it is none of these.
    """
    now = now or datetime.now(UTC)
    if _AGO.fullmatch(text.strip()) is not None:
        return now - parse_span(text)
    try:
        found = datetime.fromisoformat(text.strip())
    except ValueError as error:
        raise WrongUsage(
            f'"{text}" is no moment.',
            "Write a date like 2026-03-01 or 2026-03-01T10:30, or so long ago: 90s, 30m, 2h, 3d",
        ) from error
    return found if found.tzinfo else found.replace(tzinfo=UTC)


def parse_span(text: str) -> timedelta:
    """A span of time: "90s", "30m", "2h", "3d".

    Raises:
        WrongUsage: it is none.
    """
    match = _AGO.fullmatch(text.strip())
    if match is None:
        raise WrongUsage(f'"{text}" is no span of time.', "Write it like 90s, 30m, 2h or 3d")
    return timedelta(seconds=float(match[1]) * _SECONDS[match[2]])


def names_table(sql: str, table: str) -> bool:
    """Whether a statement's text has this name as a word of its own, in any case."""
    wanted = table.lower().rpartition(".")[2]
    kinds = (TokenKind.WORD, TokenKind.QUOTED)
    return any(t.kind in kinds and unquoted(t.text).lower() == wanted for t in meaningful(sql))
