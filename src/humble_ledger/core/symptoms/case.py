"""What a rule gets to look at: a plan, its arithmetic, facts, and the server's planner to ask.

Rules compute; they never run a query. What only the planner knows (how many rows it expects
of one condition alone, what the next best plan costs) they ask of a `Planner`, whose answers
are EXPLAINs and catalogue reads; without a server it answers None to everything, and a rule
then says what cannot be known.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Protocol

from humble_ledger.core.costs.contract import CostModel
from humble_ledger.core.costs.unknown import UnknownCosts
from humble_ledger.core.dialect import STANDARD, Dialect
from humble_ledger.core.estimates.known_values import ColumnValues
from humble_ledger.core.plans.arithmetic import StepMetrics, accounts
from humble_ledger.core.plans.model import Node, Plan
from humble_ledger.core.plans.paths import rows_divided_by
from humble_ledger.core.routes.exploring import Method
from humble_ledger.core.schema.facts import ForeignKey, ServerFacts, TableFacts, TableName
from humble_ledger.core.statements.conditions import Wrapping, predicates
from humble_ledger.core.statements.turned.turning import turned_condition
from humble_ledger.core.symptoms.model import Symptom

WORTH_A_WORD = 0.10  # of the plan's time


class Planner(Protocol):
    """The server's planner and statistics; every answer is None when nobody can tell."""

    def rows_matching(
        self, table: TableName, alias: str, conditions: Sequence[str]
    ) -> float | None:
        """The rows of a table that the planner expects to meet all conditions."""
        ...

    def plan_without(self, methods: frozenset[Method]) -> Plan | None:
        """The plan of the same statement if the server may not use these methods."""
        ...

    def column_values(self, table: TableName, column: str) -> ColumnValues | None:
        """What the statistics know of a column's values."""
        ...

    def volatile_functions(self, names: Iterable[str]) -> frozenset[str] | None:
        """Those of the functions whose result may differ from one row to the next."""
        ...

    def immutable(self, table: TableName, expression: str) -> bool | None:
        """Whether an index on an expression of a table's columns can be built."""
        ...

    def referring(self, table: TableName) -> Sequence[tuple[TableFacts, ForeignKey]] | None:
        """The tables whose foreign keys refer to this one, each with the key."""
        ...


class NobodyToAsk:
    """No server: a saved plan, or a test."""

    def rows_matching(self, *_: object) -> None:
        """Unknown."""

    def plan_without(self, *_: object) -> None:
        """Unknown."""

    def column_values(self, *_: object) -> None:
        """Unknown."""

    def volatile_functions(self, *_: object) -> None:
        """Unknown."""

    def immutable(self, *_: object) -> None:
        """Unknown."""

    def referring(self, *_: object) -> None:
        """Unknown."""


@dataclass(frozen=True, slots=True)
class Case:
    """A plan to judge, with its arithmetic, facts of server and tables, its engine's cost formulas,
    and whom to ask. ``statement`` is its text, "" when that is not known;
    ``rules`` and ``dialect`` are its engine's own.
    """

    plan: Plan
    server: ServerFacts
    tables: Mapping[TableName, TableFacts]
    costs: CostModel
    accounts: Mapping[int, StepMetrics] = field(default_factory=dict)
    planner: Planner = field(default_factory=NobodyToAsk)
    statement: str = ""
    rules: Sequence[Rule] = ()
    dialect: Dialect = STANDARD
    _turned: dict[int, float | None] = field(default_factory=dict)

    @classmethod
    def of(
        cls,
        plan: Plan,
        server: ServerFacts,
        tables: Mapping[TableName, TableFacts],
        costs: CostModel,
        planner: Planner | None = None,
        statement: str = "",
        rules: Sequence[Rule] = (),
        dialect: Dialect = STANDARD,
    ) -> Case:
        """A case with its arithmetic done."""
        asked = planner or NobodyToAsk()
        return cls(plan, server, tables, costs, accounts(plan), asked, statement, rules, dialect)

    @property
    def priced(self) -> bool:
        """Whether there are formulas for what another way would cost."""
        return not isinstance(self.costs, UnknownCosts)

    @property
    def memory_bytes(self) -> float:
        """What one step may use: the setting the plan was made with, else the server's now."""
        return self.costs.resources.memory_bytes(self.plan)

    @property
    def memory_setting(self) -> str:
        """The name of the setting that says so."""
        return self.costs.resources.memory_setting

    @property
    def hash_memory_setting(self) -> str:
        """That of a hash."""
        return self.costs.resources.hash_memory_setting

    @property
    def hash_memory_bytes(self) -> float:
        """What one hash may use."""
        return self.costs.resources.hash_memory_bytes(self.plan)

    def table_of(self, node: Node) -> TableFacts | None:
        """Facts of the table a step reads."""
        return self.tables.get(TableName(node.schema, node.relation)) if node.relation else None

    def rows(self, node: Node) -> float:
        """The rows of a step in all: seen, else expected; by a sample where the plan guesses."""
        if node.loops is not None:
            return (node.rows_seen or 0.0) * node.loops
        expected = (node.rows_expected or 0.0) * rows_divided_by(self.plan, node)
        told = self._rows_told(node) if node.share_unknown else None
        turned = self.rows_as_turned(node)
        return min(each for each in (expected, told, turned) if each is not None)

    def _rows_told(self, node: Node) -> float | None:
        """The rows of a step of whose conditions the plan knows nothing, where we can ask."""
        tested = [p for text in node.conditions.filter for p in predicates(text)]
        found = [p for text in node.conditions.search for p in predicates(text)] + tested
        asked = all(p.partner is None and (p.column or p.choices) for p in found)
        if not (node.relation and tested and asked):
            return None
        table = TableName(node.schema, node.relation)
        return self.planner.rows_matching(table, node.alias, [each.sql for each in found])

    def rows_as_turned(self, node: Node) -> float | None:
        """The rows that the planner would expect of a step, had its filter the column alone.

        None when nothing in it can be turned, or nobody can be asked.
        """
        if node.no not in self._turned:
            self._turned[node.no] = self._asked_as_turned(node)
        return self._turned[node.no]

    def _asked_as_turned(self, node: Node) -> float | None:
        table = self.table_of(node)
        found = [p for text in node.conditions.filter for p in predicates(text)]
        hidden = any(p.wrapping is not Wrapping.NONE or p.column is None for p in found)
        if node.share_unknown:
            return None  # a sample tells, whatever the wording
        if table is None or not hidden or any(each.partner is not None for each in found):
            return None
        turned = turned_condition([each.sql for each in found], table, self.dialect)
        return self.planner.rows_matching(table.name, node.alias, [turned]) if turned else None

    def walked_share(self, node: Node) -> float:
        """The part of its way that a step is expected to go until a LIMIT above has enough.

        1 where it was run: what was seen is what it did.
        """
        if node.loops is not None or node.cost is None:
            return 1.0
        own = node.cost.total - sum(child.cost.total for child in node.children if child.cost)
        return min(1.0, self.accounts[node.no].self_cost / own) if own > 0 else 1.0

    def share_below(self, node: Node) -> float:
        """The share of the plan's time that a step and all below it take."""
        return sum(self.accounts[each.no].self_share for each in node.walk())

    def verb(self, measured: str, estimated: str) -> str:
        """What happened, or what would."""
        return measured if self.plan.steps_measured else estimated

    def avoidable(self, node: Node, part: float) -> tuple[float | None, float]:
        """(ms, share) of a step's self time of which ``part`` could be avoided."""
        account = self.accounts[node.no]
        own = account.self_ms
        return (None if own is None else own * part), account.self_share * part

    def avoidable_of(self, steps: Iterable[int], part: float) -> tuple[float | None, float]:
        """(ms, share) of the self time of several steps of which ``part`` could be avoided."""
        known = [self.accounts[step] for step in steps]
        share = sum(account.self_share for account in known) * part
        if not self.plan.steps_timed:
            return None, share
        return sum(account.self_ms or 0.0 for account in known) * part, share


class Rule(Protocol):
    """One family of symptoms."""

    def __call__(self, case: Case) -> Iterable[Symptom]:
        """Every symptom of this family in the case."""
        ...
