"""What goes on at a server: its own statistics, its sessions, and what it lets us see."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from humble_ledger.core.schema.readiness import Readiness
from humble_ledger.core.workload.sampling import ActivityLook
from humble_ledger.core.workload.statistics import StatisticsLook


class Observer(Protocol):
    """Looks at a server from outside."""

    def preflight(self) -> Sequence[Readiness]:
        """What this server lets us see, and how to see more."""
        ...

    def statistics(self) -> StatisticsLook:
        """The server's own statistics of statements in this database, ours left out."""
        ...

    def activity(self) -> ActivityLook:
        """What every other session of the server does at this moment."""
        ...

    def concurrent_trials(self, mark: str) -> tuple[str, ...]:
        """The names of trials on this database, by anybody, but for the one of this mark."""
        ...
