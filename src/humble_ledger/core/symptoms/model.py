"""A symptom: something that costs time, with evidence, the time it costs, and its cause."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from humble_ledger.core.estimates.chain import Chain
from humble_ledger.core.messages import Message

# Columns of which a server keeps no statistics, with the statement in its own words that gathers
# them, and those that let them go ("" for none).
COLUMNS_UNKNOWN = "column-statistics-missing"
GATHERED_BY = "gathered_by"
UNDONE_BY = ("undone_by", "undone_then", "undone_last")

Evidence = Mapping[str, float | int | str | bool | None]


@dataclass(frozen=True, slots=True)
class Cause:
    """Why it is so: a name of ours, and what is told of it."""

    name: str
    detail: Message


@dataclass(frozen=True, slots=True)
class Symptom:
    """Something in a plan, in a workload or in a schema that costs time.

    ``cost_ms`` is the measured time a better plan would avoid at most, None when the plan was
    not measured or nobody can tell; ``cost_share`` the same as a share of the plan's time (of
    its cost when not measured). ``harmless`` marks findings that say "this is right".
    ``covers`` are the steps whose time it counts, only its own step when empty. ``subject`` is
    the table, column or index of a symptom of a schema. ``chain`` tells how a wrong estimate
    came about.
    """

    name: str
    node: int
    step: str
    summary: Message
    evidence: Evidence
    cause: Cause
    cost_ms: float | None = None
    cost_share: float | None = None
    harmless: bool = False
    covers: tuple[int, ...] = ()
    subject: str = ""
    chain: Chain | None = None

    @property
    def index_may_help(self) -> bool:
        """Whether an index is the kind of change that could cure it."""
        return not self.harmless and self.name in _CURED_BY_INDEX


_CURED_BY_INDEX = frozenset(
    (
        "selective-full-scan",
        "full-scan-avoidable",
        "sort-spills",
        "subquery-per-row",
        "leading-column-missing",
        "index-scan-discards-most",
        "missing-covering-index",
        "sort-without-index",
        "top-n-without-index",
        "join-side-without-index",
    )
)
