"""What a trial makes on the target: names, statements, and what they mean for its judging."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.entries import RemedyEntry
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.model import RemedyType
from humble_ledger.core.remedies.operations import RewriteStatement
from humble_ledger.core.trials.marks import marked_name
from humble_ledger.engines.contract import Change, NewIndex

WRITES_NOTHING = frozenset((RemedyType.SETTING, RemedyType.REWRITE))
_SET_INSIDE = (RemedyType.STATISTICS, RemedyType.SETTING, RemedyType.CHANGE)
_ALWAYS_USED = frozenset((RemedyType.SETTING, RemedyType.REWRITE, RemedyType.CHANGE))


@dataclass(frozen=True, slots=True)
class TrialIndex:
    """An index of a trial: the remedy it comes from, its design, its name on the target."""

    remedy: str
    design: IndexDesign
    name: str
    dialect: Dialect

    @property
    def new(self) -> NewIndex:
        """The statements that make and remove it."""
        design, dialect = self.design, self.dialect
        return NewIndex(
            design.table.schema,
            self.name,
            design.create_sql(self.name, dialect),
            design.create_sql(self.name, dialect, online=True),
            # It may not have come to be when something went wrong.
            design.drop_sql(self.name, dialect, online=True, if_exists=True),
            design.table.name,
        )


@dataclass(frozen=True, slots=True)
class Making:
    """The remedies of a trial as what is done for them."""

    entries: tuple[RemedyEntry, ...]
    indexes: tuple[TrialIndex, ...]
    change: Change

    @property
    def types(self) -> frozenset[RemedyType]:
        """The kinds of change that take part."""
        return frozenset(entry.remedy.type for entry in self.entries)

    @property
    def names(self) -> tuple[str, ...]:
        """The names of the indexes that are made."""
        return tuple(index.name for index in self.indexes)

    @property
    def places(self) -> tuple[tuple[str, str], ...]:
        """Schema and name of each index that is made."""
        return tuple((index.design.table.schema, index.name) for index in self.indexes)

    @property
    def hidden(self) -> tuple[str, ...]:
        """The names of indexes that only the side before can see."""
        return tuple(e.remedy.removal.name for e in self.entries if e.remedy.removal is not None)

    @property
    def rewrite(self) -> RewriteStatement | None:
        """The text that is sent in place of the statement."""
        texts = (entry.remedy.rewrite for entry in self.entries)
        return next((text for text in texts if text is not None), None)

    @property
    def makes_something(self) -> bool:
        """Whether anything is made on the target at all."""
        return not self.types <= WRITES_NOTHING

    @property
    def used_anyway(self) -> bool:
        """Whether the change is at work whatever the plan looks like."""
        return bool(self.types & _ALWAYS_USED)


def making_of(
    entries: Sequence[RemedyEntry],
    mark: str,
    dialect: Dialect,
    *,
    writes: bool,
) -> Making:
    """What is made for some remedies by the trial of this mark; ``writes`` as in `Change`."""
    indexes = tuple(
        TrialIndex(
            entry.id, entry.remedy.index, marked_name(entry.remedy.index_name, mark), dialect
        )
        for entry in entries
        if entry.remedy.index is not None
    )
    remedies = [entry.remedy for entry in entries]
    # Besides building indexes, what one connection alone gets.
    others = tuple(s for r in remedies if r.type in _SET_INSIDE for s in r.apply)
    gone = [r.removal for r in remedies if r.removal is not None]
    change = Change(
        tuple(index.new for index in indexes),
        others,
        tuple(index.place for index in gone),
        tuple(index.table.name for index in gone),
        writes,
    )
    return Making(tuple(entries), indexes, change)
