"""The hollow as the planner that predictions are made with."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field

from humble_ledger.core.costs.model import IndexShape
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Hollow
from humble_ledger.errors import HumbleError


@dataclass(slots=True)
class HollowPlanner:
    """See `prediction.contract.WhatIfPlanner`; what could not be planned is kept in ``failed``."""

    hollow: Hollow
    failed: list[str] = field(default_factory=list)

    @property
    def tolerance(self) -> float:
        """By what part of a cost the hollow may be off."""
        return self.hollow.tolerance

    @property
    def most_at_once(self) -> int:
        """So many indexes of a table may be supposed together only to see which is taken."""
        return self.hollow.most_at_once

    @property
    def asked(self) -> int:
        """How many plans were made."""
        return self.hollow.asked

    @property
    def lacks(self) -> Sequence[str]:
        """What could not be carried over from the target."""
        return self.hollow.notes

    def plan(self, statement: Statement, designs: Mapping[IndexDesign, IndexShape]) -> Plan | None:
        """The plan with these indexes; None when the hollow cannot tell."""
        try:
            return self.hollow.explain(statement, designs).plan
        except HumbleError as error:
            self.failed.append(str(error))
            return None

    def forget(self, designs: Mapping[IndexDesign, IndexShape]) -> None:
        """Do without these indexes from now on."""
        with suppress(HumbleError):
            self.hollow.forget(designs)

    def guesses(self, design: IndexDesign) -> bool:
        """Whether the hollow knows nothing of an expression that this index is on."""
        return self.hollow.guesses(design)

    def names(self, designs: Mapping[IndexDesign, IndexShape]) -> Mapping[str, IndexDesign]:
        """What these indexes are called in a plan."""
        return self.hollow.names(designs)
