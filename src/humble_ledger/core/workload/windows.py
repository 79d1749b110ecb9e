"""Windows of time and other ways to choose runs."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from humble_ledger.core.statements.tokens import TokenKind, meaningful
from humble_ledger.errors import WrongUsage

_AGO = re.compile(r"(\d+(?:\.\d+)?)\s*(s|min|m|h|d|w)")
_SECONDS = {"s": 1, "m": 60, "min": 60, "h": 3600, "d": 86_400, "w": 7 * 86_400}


@dataclass(frozen=True, slots=True)
class RunChoice:
    """Which runs count: begun from ``since`` on and before ``until``, by whom; "" is anybody."""

    since: datetime | None = None
    until: datetime | None = None
    user: str = ""
    application: str = ""

    @property
    def everything(self) -> bool:
        """Whether nothing is left out."""
        return self == RunChoice()


def parse_moment(text: str, now: datetime | None = None) -> datetime:
    """A moment: «2026-03-01», «2026-03-01 10:30», or so long ago: «90s», «30m», «2h», «3d».

    Without a zone it is UTC.

    Raises:
        WrongUsage: it is none of these.
    """
    now = now or datetime.now(UTC)
    ago = _AGO.fullmatch(text.strip())
    if ago is not None:
        return now - timedelta(seconds=float(ago[1]) * _SECONDS[ago[2]])
    try:
        found = datetime.fromisoformat(text.strip())
    except ValueError as error:
        raise WrongUsage(
            f"«{text}» is no moment.",
            "Write a date like 2026-03-01 or 2026-03-01T10:30, or so long ago: 90s, 30m, 2h, 3d",
        ) from error
    return found if found.tzinfo else found.replace(tzinfo=UTC)


def names_table(sql: str, table: str) -> bool:
    """Whether a statement's text has this name as a word of its own, in any case."""
    wanted = table.lower().rpartition(".")[2]
    kinds = (TokenKind.WORD, TokenKind.QUOTED)
    return any(t.kind in kinds and t.text.strip('"').lower() == wanted for t in meaningful(sql))
