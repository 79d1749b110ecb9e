"""A copy of a target without its rows, whose planner is asked "what if"."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from contextlib import AbstractContextManager
from typing import Protocol

from humble_ledger.core.costs.model import IndexShape
from humble_ledger.core.remedies.counterexamples.model import Arena
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.together import ColumnGroup
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract.plans import ExplainOptions, PlanDocument

# Followed by a name it is the address of a copy that was made from files, and has no server.
HOLLOW_SCHEME = "hollow:"
EXACT = 0.02  # of a cost: what rounding makes of the same statistics
ANY_NUMBER = 1_000_000


class Hollow(Protocol):
    """The target's schema, statistics, settings and sizes on a server of ours, and not one row.

    With nothing supposed it plans as the target does. ``notes`` say what could not be carried
    over, and what that may spoil; ``asked`` counts the plans that were made. By ``tolerance``, a
    part of a cost, its plans may differ from the target's and still be those. Beyond
    ``most_at_once`` supposed indexes of a table each further one takes long.
    """

    asked: int
    tolerance: float
    most_at_once: int

    @property
    def notes(self) -> Sequence[str]:
        """What could not be carried over, a sentence each.

        One that is of a single table begins with its name and a colon: "public.orders: …".
        """
        ...

    def explain(
        self,
        statement: Statement,
        designs: Mapping[IndexDesign, IndexShape],
        options: ExplainOptions = ExplainOptions(),  # noqa: B008
        *,
        without: Collection[TableName] = (),
        rows: Mapping[TableName, float] = ...,
        longer_history: bool = False,
        together: Collection[ColumnGroup] = (),
    ) -> PlanDocument:
        """The plan of a statement if these indexes were there, each of a size.

        ``without`` names indexes of the target (schema, name) that are supposed to be gone,
        ``rows`` how many times as many rows tables have, of the same kind as those that are there;
        with ``longer_history`` they are older ones, so that columns which advance with the rows
        reach further back. Of columns ``together`` there are supposed to be statistics.

        Raises:
            HumbleError: an index cannot be built so, or the statement cannot be planned here.
        """
        ...

    def guesses(self, design: IndexDesign) -> bool:
        """Whether nothing is known of the values of an expression that a supposed index is on."""
        ...

    def forget(self, designs: Mapping[IndexDesign, IndexShape]) -> None:
        """Remove these supposed indexes, which nobody will ask about again."""
        ...

    def arena(self, tables: Sequence[TableName]) -> AbstractContextManager[Arena]:
        """These tables with nothing in them, to be filled with a few rows and asked.

        Nothing else may be asked of the hollow meanwhile, and nothing of it stays.

        Raises:
            HumbleError: a table cannot be made again.
        """
        ...

    def names(self, designs: Mapping[IndexDesign, IndexShape]) -> Mapping[str, IndexDesign]:
        """What supposed indexes are called in the plans of `explain`."""
        ...
