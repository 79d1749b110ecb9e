"""Asking the target's planner while a plan is judged: bounded in number, counted and timed."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import TypeVar

from humble_ledger.core.estimates.known_values import ColumnValues
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.routes.exploring import Method
from humble_ledger.core.schema.facts import ForeignKey, TableFacts, TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import ExplainOptions, Session
from humble_ledger.errors import HumbleError, TargetUnreachable

MOST_PROBES = 60  # for one plan
Answer = TypeVar("Answer")


@dataclass(slots=True)
class AskedPlanner:
    """A `Planner` that asks a session; what the server rejects counts as unknown.

    Only EXPLAINs without running, and reads of the catalogue.
    """

    session: Session
    statement: Statement | None
    probes: int = 0
    took_ms: float = 0.0

    def rows_matching(
        self, table: TableName, alias: str, conditions: Sequence[str]
    ) -> float | None:
        """The rows of a table that the planner expects to meet all conditions."""
        return self._ask(lambda: self.session.rows_matching(table, alias, conditions))

    def plan_without(self, methods: frozenset[Method]) -> Plan | None:
        """The plan of the same statement if the server may not use these methods."""
        statement = self.statement
        if statement is None or not methods <= self.session.methods:
            return None
        return self._ask(
            lambda: self.session.explain(statement, ExplainOptions(forbidden=methods)).plan
        )

    def column_values(self, table: TableName, column: str) -> ColumnValues | None:
        """What the statistics know of a column's values."""
        return self._ask(lambda: self.session.column_values(table, column))

    def immutable(self, table: TableName, expression: str) -> bool | None:
        """Whether an index on an expression can be built."""
        return self._ask(lambda: self.session.is_immutable(table, expression))

    def volatile_functions(self, names: Iterable[str]) -> frozenset[str] | None:
        """Those of the functions whose result may differ from one row to the next."""
        wanted = frozenset(names)
        if not wanted:
            return frozenset()
        return self._ask(lambda: self.session.volatile_functions(wanted))

    def referring(self, table: TableName) -> Sequence[tuple[TableFacts, ForeignKey]] | None:
        """The tables whose foreign keys refer to this one, each with the key."""

        def found() -> list[tuple[TableFacts, ForeignKey]]:
            tables = self.session.tables(self.session.user_tables())
            return [(t, k) for t in tables.values() for k in t.foreign_keys if k.refers_to == table]

        return self._ask(found)

    def _ask(self, question: Callable[[], Answer]) -> Answer | None:
        if self.probes >= MOST_PROBES:
            return None
        self.probes += 1
        began = time.perf_counter()
        try:
            return question()
        except TargetUnreachable:
            raise
        except HumbleError:
            return None  # a condition that stands for itself nowhere, as of a sub-plan
        finally:
            self.took_ms += (time.perf_counter() - began) * 1000.0
