"""A hollow that is running: indexes are supposed on it, and its planner is asked."""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from humble_ledger.core.costs.model import IndexShape
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.together import ColumnGroup
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import ANY_NUMBER, EXACT, ExplainOptions, PlanDocument
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.hollow.arena import PostgresArena, arena_in
from humble_ledger.engines.postgresql.hollow.expressions import Sampler
from humble_ledger.engines.postgresql.hollow.growth import Growth
from humble_ledger.engines.postgresql.hollow.standing import Standing
from humble_ledger.engines.postgresql.hollow.supposed_indexes import SupposedIndexes
from humble_ledger.engines.postgresql.hollow.together import SupposedGroups
from humble_ledger.engines.postgresql.session import PostgresSession

_AS_THEY_ARE: Mapping[TableName, float] = {}


@dataclass(slots=True)
class PostgresHollow:
    """A hollow that is running; see `engines.contract.Hollow`."""

    standing: Standing
    session: PostgresSession
    notes: list[str]
    sampler: Sampler
    asked: int = 0
    tolerance: float = EXACT
    most_at_once: int = ANY_NUMBER
    _indexes: SupposedIndexes = field(init=False)
    _growth: Growth = field(init=False)
    _groups: SupposedGroups = field(init=False)

    def __post_init__(self) -> None:
        """Nothing is supposed yet."""
        self._indexes = SupposedIndexes(self.standing, self.sampler)
        self._growth = Growth(self.standing, self._indexes)
        self._groups = SupposedGroups(self.standing, self.sampler)

    def explain(
        self,
        statement: Statement,
        designs: Mapping[IndexDesign, IndexShape],
        options: ExplainOptions = ExplainOptions(),  # noqa: B008
        *,
        without: Collection[TableName] = (),
        rows: Mapping[TableName, float] = _AS_THEY_ARE,
        longer_history: bool = False,
        together: Collection[ColumnGroup] = (),
    ) -> PlanDocument:
        """The plan if these indexes were there, each of a size; see `engines.contract.Hollow`."""
        with translated():
            # An index is built on a table as it is, and grows with it.
            self._growth.undo(self._indexes.lacking(designs))
            wanted = self._indexes.suppose(designs)
            self._growth.become(rows, longer=longer_history)
            self._indexes.show(wanted)
            self._indexes.hide(frozenset(without))
            self._groups.show(together)
        self.asked += 1
        return self.session.explain(statement, options)

    def names(self, designs: Mapping[IndexDesign, IndexShape]) -> Mapping[str, IndexDesign]:
        """What supposed indexes are called in the plans of `explain`."""
        return self._indexes.names(designs)

    @contextlib.contextmanager
    def arena(self, tables: Sequence[TableName]) -> Iterator[PostgresArena]:
        """These tables with nothing in them; see `engines.contract.Hollow`."""
        with (
            contextlib.closing(self.standing.owner()) as connection,
            arena_in(connection, tables) as made,
        ):
            yield made

    def guesses(self, design: IndexDesign) -> bool:
        """See `engines.contract.Hollow`: whether an expression of it could not be sampled."""
        return design in self._indexes.guessed

    def forget(self, designs: Mapping[IndexDesign, IndexShape]) -> None:
        """Remove these supposed indexes: each one that stands there makes planning slower."""
        self._indexes.forget(designs)

    def forget_all(self) -> None:
        """Remove all that was supposed: the hollow may be used again."""
        self._indexes.hide(frozenset())
        self._groups.show(())
        self._growth.undo_all()
        self._indexes.forget_all()
