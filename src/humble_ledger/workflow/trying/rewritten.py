"""The side of a trial that sends a statement written another way."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Arm, Outcome, PlanDocument


@dataclass(frozen=True, slots=True)
class RewrittenArm:
    """An arm that sends one statement in place of whatever it is given."""

    arm: Arm
    instead: Statement

    def run(self, statement: Statement) -> Outcome:
        """Run the new statement."""
        return self.arm.run(self.instead)

    def explain(self, statement: Statement, *, measure: bool) -> PlanDocument:
        """Explain the new statement."""
        return self.arm.explain(self.instead, measure=measure)

    def result_rows(self, statement: Statement) -> Iterable[tuple[bytes | None, ...]]:
        """The rows of the new statement."""
        return self.arm.result_rows(self.instead)
