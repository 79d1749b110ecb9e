"""What following a statement brought."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.workload.following import Look


@dataclass(frozen=True, slots=True)
class Followed:
    """A statement of a session, look by look; it ``ended`` before we stopped looking.

    ``entry`` is its last plan with rows, None where the server shows none.
    """

    session: int
    sql: str
    looks: Sequence[Look]
    ended: bool
    entry: PlanEntry | None = None
