"""A symptom: evidence, the time it costs, its cause; and what a rule gets to look at."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Protocol

from humble_ledger.core.plans.arithmetic import Account, accounts
from humble_ledger.core.plans.model import Node, Plan
from humble_ledger.core.remedies.btree import CostModel
from humble_ledger.core.schema.facts import ServerFacts, TableFacts, TableName

Evidence = Mapping[str, float | int | str | bool | None]


@dataclass(frozen=True, slots=True)
class Cause:
    """Why it is so: a name of ours, and a sentence."""

    name: str
    detail: str


@dataclass(frozen=True, slots=True)
class Symptom:
    """Something in a plan that costs time.

    ``cost_ms`` is the measured time a better plan would avoid at most, None when the plan was
    not measured or nobody can tell; ``cost_share`` the same as a share of the plan's time (of
    its cost when not measured). ``harmless`` marks findings that say "this is right".
    ``covers`` are the steps whose time it counts, only its own step when empty.
    """

    name: str
    node: int
    step: str
    summary: str
    evidence: Evidence
    cause: Cause
    cost_ms: float | None = None
    cost_share: float | None = None
    harmless: bool = False
    covers: tuple[int, ...] = ()

    @property
    def index_may_help(self) -> bool:
        """Whether an index is the kind of change that could cure it."""
        return not self.harmless and self.name in _CURED_BY_INDEX


_CURED_BY_INDEX = frozenset(
    (
        "selective-full-scan",
        "sort-spills",
        "subquery-per-row",
        "index-from-its-wrong-end",
        "index-scan-discards-most",
    )
)


@dataclass(frozen=True, slots=True)
class Case:
    """What a rule may look at: a plan, its arithmetic, and facts of server and tables."""

    plan: Plan
    server: ServerFacts
    tables: Mapping[TableName, TableFacts]
    accounts: Mapping[int, Account] = field(default_factory=dict)

    @classmethod
    def of(cls, plan: Plan, server: ServerFacts, tables: Mapping[TableName, TableFacts]) -> Case:
        """A case with its arithmetic done."""
        return cls(plan, server, tables, accounts(plan))

    @property
    def costs(self) -> CostModel:
        """The server's cost formulas."""
        return CostModel(self.server)

    def table_of(self, node: Node) -> TableFacts | None:
        """Facts of the table a step reads."""
        return self.tables.get(TableName(node.schema, node.relation)) if node.relation else None

    def avoidable(self, node: Node, part: float) -> tuple[float | None, float]:
        """(ms, share) of a step's own time of which ``part`` could be avoided."""
        account = self.accounts[node.no]
        own = account.own_ms
        return (None if own is None else own * part), account.own_share * part

    def avoidable_of(self, steps: Iterable[int], part: float) -> tuple[float | None, float]:
        """(ms, share) of the own time of several steps of which ``part`` could be avoided."""
        known = [self.accounts[step] for step in steps]
        share = sum(account.own_share for account in known) * part
        if not self.plan.measured:
            return None, share
        return sum(account.own_ms or 0.0 for account in known) * part, share


class Rule(Protocol):
    """One family of symptoms."""

    def __call__(self, case: Case) -> Iterable[Symptom]:
        """Every symptom of this family in the case."""
        ...
