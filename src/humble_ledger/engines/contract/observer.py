"""What goes on at a server: its own statistics, its sessions, and what it lets us see."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

from humble_ledger.capture.places import ServedLog
from humble_ledger.core.schema.readiness import Readiness
from humble_ledger.core.workload.following import Done
from humble_ledger.core.workload.sampling import ActivityLook
from humble_ledger.core.workload.statistics import StatisticsLook
from humble_ledger.engines.contract.plans import PlanDocument


@dataclass(frozen=True, slots=True)
class Running:
    """What a session runs at a moment: for how long (ms), how far it is by the server's own count,
    and its plan with the rows that came so far, where the server shows one.
    """

    sql: str
    elapsed_ms: float
    found: PlanDocument | None = None
    done: tuple[Done, ...] = ()


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

    def running(self, session: int) -> Running | None:
        """What a session of the server runs now, by its number; None when it runs nothing.

        Raises:
            WrongUsage: there is no server that could show it.
        """
        ...

    def logs(self) -> Sequence[ServedLog]:
        """The server's own logs of statements, as far as it hands them out, the oldest first.

        Raises:
            WrongUsage: it hands out none; the message says why.
            StatementRejected: this user may not read them.
        """
        ...

    def concurrent_trials(self, mark: str) -> tuple[str, ...]:
        """The names of trials on this database, by anybody, but for the one of this mark."""
        ...
