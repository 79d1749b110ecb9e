"""What if: each query's cost now and under a supposition."""

from __future__ import annotations

from dataclasses import dataclass

from humble_ledger.core.messages import Told
from humble_ledger.core.plans.comparison import Comparison
from humble_ledger.core.plans.model import Plan


@dataclass(frozen=True, slots=True)
class KeptHollow:
    """A copy of a target that lies on this machine for the next time.

    ``target`` is the address it was made from, without what may be secret; ``disk_bytes`` what all
    that lie in ``folder`` really take on the disk together.
    """

    target: str
    made_at: str
    engine: str
    version: str
    folder: str
    disk_bytes: int
    notes: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class SupposedIndex:
    """An index that is supposed to be there: its definition, and the size it would have."""

    definition: str
    size_bytes: int


@dataclass(frozen=True, slots=True)
class SupposedQuery:
    """One query with its present plan and the one it would have.

    ``uses`` are the definitions of supposed indexes in the new plan, and the names of others it
    reads; ``caution`` tells why the figures deserve less trust.
    """

    query: str
    statement: str
    before: Plan
    after: Plan
    comparison: Comparison
    uses: tuple[str, ...] = ()
    caution: Told = ""

    @property
    def cost_before(self) -> float:
        """The server's estimate of the cost now."""
        return self.before.cost_total or 0.0

    @property
    def cost_after(self) -> float:
        """The same under the supposition."""
        return self.after.cost_total or 0.0


@dataclass(frozen=True, slots=True)
class Supposition:
    """What was supposed, and what became of each query.

    ``rows`` are tables supposed to have so many times as many rows, ``statistics`` columns about
    which there are some together. ``left_out`` are queries that
    could not be planned, with the reason; ``asked`` plans were made in ``took_ms`` after the copy
    was there; ``notes`` say what the copy lacks.
    """

    queries: tuple[SupposedQuery, ...]
    indexes: tuple[SupposedIndex, ...] = ()
    without: tuple[str, ...] = ()
    settings: tuple[tuple[str, str], ...] = ()
    rows: tuple[tuple[str, float], ...] = ()
    statistics: tuple[str, ...] = ()
    left_out: tuple[tuple[str, str], ...] = ()
    notes: tuple[str, ...] = ()
    asked: int = 0
    took_ms: float = 0.0
    way: str = "planner"
