"""A remedy is data: it can be shown, predicted, tried, settled and undone."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum

from humble_ledger.core.dialect import STANDARD, Dialect
from humble_ledger.core.messages import Told
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.naming import DEFAULT_PATTERN, index_name
from humble_ledger.core.remedies.operations import (
    Analyze,
    CreateIndex,
    CreateStatistics,
    Custom,
    DropIndex,
    Operation,
    RewriteStatement,
    SetSettings,
    SetStatisticsTarget,
)
from humble_ledger.core.remedies.rendering import rendered


class RemedyType(StrEnum):
    """The kinds of change."""

    INDEX = "index"
    STATISTICS = "statistics"
    REWRITE = "rewrite"
    SETTING = "setting"
    REMOVAL = "removal"  # of an index
    CHANGE = "change"  # any statements of the user's, with those that undo them


_TYPES: Mapping[type, RemedyType] = {
    CreateIndex: RemedyType.INDEX,
    DropIndex: RemedyType.REMOVAL,
    Analyze: RemedyType.STATISTICS,
    CreateStatistics: RemedyType.STATISTICS,
    SetStatisticsTarget: RemedyType.STATISTICS,
    SetSettings: RemedyType.SETTING,
    RewriteStatement: RemedyType.REWRITE,
}
CLEARLY_DEARER = 1.2  # times the present cost


@dataclass(frozen=True, slots=True)
class Prediction:
    """What a remedy should do to one query: the server's cost before, and predicted after.

    ``way`` is how it was predicted (formula, hollow); ``step`` names what would be replaced,
    ``route`` what would come instead, ``caution`` what may make it wrong. It holds ``beside``
    other indexes, without which the remedy does nothing for this query.
    """

    query: str
    cost_before: float
    cost_predicted: float
    way: str
    step: str = ""
    route: str = ""
    caution: str = ""
    beside: tuple[IndexDesign, ...] = ()

    @property
    def gain(self) -> float:
        """How many times cheaper."""
        return self.cost_before / max(self.cost_predicted, 0.01)

    @property
    def harms(self) -> bool:
        """Whether the query would be clearly dearer: a planner may be misled by an index."""
        return self.cost_predicted > CLEARLY_DEARER * self.cost_before


@dataclass(frozen=True, slots=True)
class WriteOverhead:
    """What a remedy costs writers, from the table's own counters since their reset.

    ``entries_now`` rows and index entries were written for these changes, ``entries_added``
    more would have been. ``ends_in_page`` are captured queries whose updates would no longer
    stay in their page; ``updates_seen`` tells whether any update of the table was captured;
    ``counted`` whether this server counts what is written at all.
    """

    inserted_rows: int = 0
    updated_rows: int = 0
    in_page_share: float | None = None
    entries_now: float = 0.0
    entries_added: float = 0.0
    ends_in_page: tuple[str, ...] = ()
    updates_seen: bool = False
    counted: bool = True

    @property
    def grows_by(self) -> float:
        """The part by which the entries written grow."""
        return self.entries_added / max(1.0, self.entries_now)


@dataclass(frozen=True, slots=True)
class Checked:
    """A rewritten statement held against small databases made to tell it from the old one.

    Of ``databases`` the old statement gave rows on ``with_rows``. ``missing`` are conditions that
    the schema does not state and without which an ``example`` tells the two apart; both are
    empty when none did. ``unable`` says why nothing could be run.
    """

    databases: int = 0
    with_rows: int = 0
    missing: tuple[str, ...] = ()
    example: str = ""
    unable: str = ""

    @property
    def differs(self) -> bool:
        """Whether the two mean different things, whatever else were known of the data."""
        return bool(self.example) and not self.missing

    @property
    def words(self) -> str:
        """What was found, in a sentence without its full stop."""
        if self.unable:
            return f"not searched for a counterexample: {self.unable}"
        if self.differs:
            return f"it means something else: {self.example}"
        if self.missing:
            return f"{self.example}; no such database was found where {' and '.join(self.missing)}"
        return (
            f"no difference on {self.databases} small databases made to show one, of which "
            f"{self.with_rows} gave rows"
        )


@dataclass(frozen=True, slots=True)
class Remedy:
    """One change that could help.

    ``operation`` is what it does, and ``apply`` and ``revert`` are that in the server's words, each
    runnable as it stands: as they were shown to people, whatever later versions would write.
    ``size_bytes_predicted`` is the room it should take (less than nothing when it gives some back).
    ``cures`` names the symptoms it is for, in the ``queries`` it came up for.
    A ``question`` changes the result, so somebody who knows its purpose must answer it;
    ``direct`` tells that a rewriting takes away the very cause of a symptom it cures;
    ``checked`` is what a search for counterexamples found (None: there was no such search).
    ``online`` is the word by which its index is built while others write, "" where they wait, and
    ``online_costs`` what that takes; ``build_ms`` is the range building should take,
    ``build_measured`` whether by builds on this target or by the kind of work alone.
    """

    operation: Operation
    summary: str
    apply: tuple[str, ...]
    revert: tuple[str, ...]
    reason: Told = ""
    predictions: tuple[Prediction, ...] = ()
    size_bytes_predicted: int | None = None
    write_overhead: WriteOverhead = field(default=WriteOverhead())
    cures: tuple[str, ...] = ()
    queries: tuple[str, ...] = ()
    build_ms: tuple[float, float] | None = None
    build_measured: bool = False
    online: str = ""
    online_costs: str = ""
    direct: bool = False
    question: bool = False
    checked: Checked | None = None

    @property
    def type(self) -> RemedyType:
        """The kind of change."""
        if isinstance(self.operation, Custom):
            return RemedyType.STATISTICS if self.operation.of_statistics else RemedyType.CHANGE
        return _TYPES[type(self.operation)]

    @property
    def index(self) -> IndexDesign | None:
        """The index that it builds."""
        return self.operation.design if isinstance(self.operation, CreateIndex) else None

    @property
    def index_name(self) -> str:
        """That index's name, else ""."""
        return self.operation.name if isinstance(self.operation, CreateIndex) else ""

    @property
    def index_wanted(self) -> IndexDesign | None:
        """The index that it builds, or that the text takes which it sends."""
        return self.index if self.rewrite is None else self.rewrite.beside

    def beside_for(self, query: str) -> tuple[IndexDesign, ...]:
        """The indexes without which it does nothing for a query."""
        return next((p.beside for p in self.predictions if p.query == query), ())

    @property
    def removal(self) -> DropIndex | None:
        """The index that it removes."""
        return self.operation if isinstance(self.operation, DropIndex) else None

    @property
    def rewrite(self) -> RewriteStatement | None:
        """The text that it sends in place of another."""
        return self.operation if isinstance(self.operation, RewriteStatement) else None

    @property
    def settings(self) -> tuple[tuple[str, str], ...]:
        """Names of settings with their new values."""
        return self.operation.settings if isinstance(self.operation, SetSettings) else ()


def remedy_of(
    operation: Operation,
    summary: str,
    dialect: Dialect,
    *,
    reason: Told = "",
    cures: tuple[str, ...] = (),
    queries: tuple[str, ...] = (),
) -> Remedy:
    """The remedy that does this, in the words of one server."""
    words = rendered(operation, dialect)
    return Remedy(
        operation, summary, words.forward, words.backward, reason, cures=cures, queries=queries
    )


def index_remedy(
    design: IndexDesign,
    *,
    reason: Told,
    predictions: tuple[Prediction, ...] = (),
    size_bytes: int | None = None,
    write_overhead: WriteOverhead | None = None,
    name: str = "",
    build_ms: tuple[float, float] | None = None,
    build_measured: bool = False,
    dialect: Dialect = STANDARD,
) -> Remedy:
    """The remedy "build this index", under a name or one of the default pattern."""
    name = name or index_name(design, DEFAULT_PATTERN)
    waits = design.waits_for_expression(dialect)
    return replace(
        remedy_of(CreateIndex(design, name), f"index on {design.words}", dialect, reason=reason),
        predictions=predictions,
        size_bytes_predicted=size_bytes,
        write_overhead=write_overhead or WriteOverhead(),
        build_ms=build_ms,
        build_measured=build_measured,
        online="" if waits else dialect.online or dialect.online_behind,
        online_costs="" if waits else dialect.online_costs,
    )
