"""The side of a trial that sends a statement written another way."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Arm, Outcome, PlanDocument


@dataclass(frozen=True, slots=True)
class RewrittenArm:
    """An arm that sends ``sql`` with the values of whatever statement it is given."""

    arm: Arm
    sql: str

    def statement(self, given: Statement) -> Statement:
        """What is sent in place of a statement."""
        return replace(given, sql=self.sql)

    def run(self, statement: Statement) -> Outcome:
        """Run the new statement."""
        return self.arm.run(self.statement(statement))

    def explain(self, statement: Statement, *, measure: bool) -> PlanDocument:
        """Explain the new statement."""
        return self.arm.explain(self.statement(statement), measure=measure)

    def result_rows(self, statement: Statement) -> Iterable[tuple[bytes | None, ...]]:
        """The rows of the new statement."""
        return self.arm.result_rows(self.statement(statement))
