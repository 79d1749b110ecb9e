"""One observed execution of a statement, from whatever source."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from humble_ledger.core.statements.kinds import Statement


@dataclass(frozen=True, slots=True)
class Observation:
    """A statement that ran: when it started, for how long (ms), by whom, with which values.

    ``session`` is the server's process or session id as text; ``rows`` is None where the
    source does not tell.
    """

    statement: Statement
    duration_ms: float
    started_at: datetime | None = None
    rows: int | None = None
    user: str = ""
    database: str = ""
    application: str = ""
    session: str = ""
