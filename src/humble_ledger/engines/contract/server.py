"""A session: a read-only connection to one target, for plans, facts and estimates.

It has time-outs and a name the server's administrators can see; it explains statements, runs
them when asked, tells catalogue facts, and lends the planner's row estimates (`rows_matching`)
to predictions.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Protocol

from humble_ledger.core.costs.contract import CostModel
from humble_ledger.core.costs.model import KeySample
from humble_ledger.core.estimates.counting import ValueCounts
from humble_ledger.core.estimates.known_values import ColumnValues
from humble_ledger.core.routes.exploring import Method
from humble_ledger.core.schema.facts import IndexKey, ServerFacts, TableFacts, TableName
from humble_ledger.core.schema.readiness import Readiness
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.statements.side_effects import SideEffect
from humble_ledger.core.workload.sampling import ActivityLook
from humble_ledger.core.workload.statistics import StatisticsLook
from humble_ledger.engines.contract.lab import (
    Outcome,
)
from humble_ledger.engines.contract.plans import ExplainOptions, PlanDocument
from humble_ledger.engines.contract.support import Capability, Support


class Session(Protocol):
    """A read-only connection to a target."""

    server: ServerFacts

    @property
    def costs(self) -> CostModel:
        """The server's cost formulas, with its settings."""
        ...

    def support(self, capability: Capability) -> Support:
        """Whether this server is able to do that; if not, why, and what to do."""
        ...

    @property
    def methods(self) -> frozenset[Method]:
        """The methods that this server can be forbidden, see `ExplainOptions.forbidden`."""
        ...

    def explain(
        self,
        statement: Statement,
        options: ExplainOptions = ExplainOptions(),  # noqa: B008
    ) -> PlanDocument:
        """The plan of a statement.

        Raises:
            UnreadableInput: the statement has no plan, or the server rejects it.
            RefusedForSafety: it is to be measured, and changes data or may act outside of its
                transaction.
            StatementTimedOut: it ran too long.
        """
        ...

    def run(self, statement: Statement) -> Outcome:
        """Run a statement that only reads, fetch its rows, and time it."""
        ...

    def side_effects(self, statement: Statement, *, writes: bool = False) -> Sequence[SideEffect]:
        """What running a statement may do beside reading, and what the planner may call.

        Found in the catalogue, as far as it tells; with ``writes`` also what writing runs.
        """
        ...

    def require_run(self, statement: Statement, *, writes: bool = False) -> None:
        """Make sure that a statement can be run on this target: nothing is run.

        Raises:
            RefusedForSafety: it may act outside of its transaction, by what was not allowed.
            UnreadableInput: the server holds it for no statement that has a plan.
        """
        ...

    def tables(self, names: Iterable[TableName]) -> Mapping[TableName, TableFacts]:
        """Facts about these tables; unknown names are left out."""
        ...

    def rows_matching(self, table: TableName, alias: str, conditions: Sequence[str]) -> float:
        """The planner's estimate of the rows of a table that meet all conditions."""
        ...

    def column_values(self, table: TableName, column: str) -> ColumnValues:
        """What the statistics know of a column's values; empty when nothing was gathered."""
        ...

    def volatile_functions(self, names: Iterable[str]) -> frozenset[str]:
        """Those of the named functions whose result may differ from one row to the next."""
        ...

    def user_tables(self) -> Sequence[TableName]:
        """The tables of this database that are the user's own."""
        ...

    def find_column(self, words: str) -> tuple[TableName, str]:
        """The table, and the column or "", that a name as people write it stands for."""
        ...

    def condition(self, table: TableName, column: str, operator: str, value: str) -> str:
        """A column compared with a value (=, <>, <, <=, >, >=), as this server writes it."""
        ...

    def count(self, table: TableName, conditions: Sequence[str]) -> int:
        """Count the rows of a table that meet all conditions, by reading them."""
        ...

    def value_counts(self, table: TableName, column: str, most: int) -> ValueCounts:
        """Count the values of a column by reading the whole table."""
        ...

    def rows_per_value(self, table: TableName, columns: Sequence[str]) -> float:
        """The planner's estimate of the rows that equal one unknown value per column."""
        ...

    def sample_keys(
        self, table: TableName, keys: Sequence[IndexKey], included: Sequence[str], predicate: str
    ) -> KeySample | None:
        """Entries that an index would have, from a block sample; None when none can be taken."""
        ...

    def is_immutable(self, table: TableName, expression: str) -> bool:
        """Whether an index may rest on this expression: it never changes for the same row."""
        ...

    def operator_classes(self) -> frozenset[str]:
        """What indexes can be sorted or taken apart by here, as "method:class"."""
        ...

    def can_create_index(self, table: TableName) -> bool:
        """Whether we may build an index on this table: it is ours, or we may do everything."""
        ...

    def concurrent_trials(self, mark: str) -> tuple[str, ...]:
        """The names of trials on this database, by anybody, but for the one of this mark."""
        ...

    def preflight(self) -> Sequence[Readiness]:
        """What this server lets us see, and how to see more."""
        ...

    def statistics(self) -> StatisticsLook:
        """The server's own statistics of statements in this database, ours left out."""
        ...

    def activity(self) -> ActivityLook:
        """What every other session of the server does at this moment."""
        ...

    def close(self) -> None:
        """End the session."""
        ...
