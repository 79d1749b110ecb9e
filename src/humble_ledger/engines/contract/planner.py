"""Plans and the planner's estimates: what a server would do with a statement."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from humble_ledger.core.costs.contract import CostModel
from humble_ledger.core.routes.exploring import Method
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.statements.side_effects import SideEffect
from humble_ledger.engines.contract.plans import ExplainOptions, PlanDocument


class Planner(Protocol):
    """Explains statements, and lends its estimates to predictions."""

    @property
    def costs(self) -> CostModel:
        """The server's cost formulas, with its settings."""
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

    def rows_matching(self, table: TableName, alias: str, conditions: Sequence[str]) -> float:
        """The planner's estimate of the rows of a table that meet all conditions."""
        ...

    def rows_per_value(self, table: TableName, columns: Sequence[str]) -> float:
        """The planner's estimate of the rows that equal one unknown value per column."""
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
