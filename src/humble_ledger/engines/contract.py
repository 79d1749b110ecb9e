"""What an engine must offer, whatever the server.

An engine opens *sessions*. A session is read-only, has time-outs and a name the server's
administrators can see; it explains statements, runs them when asked, tells catalogue facts,
and lends the planner's row estimates (`rows_matching`) to predictions. An *experiment* is
the pair of connections between which a trial alternates: on one the change exists, on the
other it does not.

What a server version cannot do is a missing *capability*, which says from when it exists
and what follows; code asks for capabilities and never compares versions in passing.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from enum import StrEnum
from typing import Protocol

from humble_ledger.core.costs.sizes import KeySample
from humble_ledger.core.estimates.counting import ValueCounts
from humble_ledger.core.estimates.known_values import ColumnValues
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.routes.exploring import Method
from humble_ledger.core.schema.facts import IndexKey, ServerFacts, TableFacts, TableName
from humble_ledger.core.schema.readiness import Readiness
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.statements.side_effects import SideEffect
from humble_ledger.core.workload.sampling import ActivityLook
from humble_ledger.core.workload.statistics import StatisticsLook

STATEMENT_TIMEOUT_MS = 60_000
LOCK_TIMEOUT_MS = 2_000
APPLICATION_NAME = "humble-ledger"


class Capability(StrEnum):
    """Something a server may or may not be able to do."""

    GENERIC_EXPLAIN = "explain a statement without its parameter values"
    UNCOMMITTED_INDEX = "build an index that only one session sees"
    PLANNING_MEMORY = "tell the memory that planning took"
    HIDDEN_INDEX = "hide an index from one session alone"
    UNCOUNTED = "keep what a session does out of the server's counters"
    NOTICES_LOST_CLIENTS = "notice during a statement that the client is gone"


@dataclass(frozen=True, slots=True)
class Limits:
    """What a session may do: its time-outs in milliseconds, and what it may call.

    ``may_call`` are names, in small letters, of functions that may act outside of a transaction
    and that the user allowed.
    """

    statement_ms: int = STATEMENT_TIMEOUT_MS
    lock_ms: int = LOCK_TIMEOUT_MS
    may_call: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True)
class PlanDocument:
    """A plan as read, beside the server's own document it was read from."""

    plan: Plan
    document: object


@dataclass(frozen=True, slots=True)
class Outcome:
    """One timed run: client-side elapsed milliseconds and the rows that came."""

    elapsed_ms: float
    rows: int


@dataclass(frozen=True, slots=True)
class IndexBuild:
    """What building an index took: its name, milliseconds, bytes; and whether it is usable.

    ``unusable_because`` is empty when the building session may use the index at once.
    """

    name: str
    build_ms: float
    size_bytes: int
    unusable_because: str = ""


@dataclass(frozen=True, slots=True)
class NewIndex:
    """An index to be made for a trial, and the statements that make and remove it.

    The online ones let writers pass and cannot be part of a transaction.
    """

    schema: str
    name: str
    create_sql: str
    create_online_sql: str
    drop_online_sql: str


@dataclass(frozen=True, slots=True)
class Change:
    """What a trial changes: indexes, and further statements (statistics, settings).

    ``writes`` tells that statements that change data will be run, each undone after.
    """

    indexes: tuple[NewIndex, ...] = ()
    others: tuple[str, ...] = ()
    writes: bool = False


@dataclass(frozen=True, slots=True)
class WriteRuns:
    """Batches of writes on two copies of a table, without and with an index; milliseconds.

    ``rows`` are written by each batch, ``copied_rows`` were in each copy, ``updated`` are the
    columns that the updates set. ``without`` and ``with_index`` are pairs, by operation.
    """

    rows: int
    copied_rows: int
    updated: tuple[str, ...]
    without: Mapping[str, Sequence[float]]
    with_index: Mapping[str, Sequence[float]]


@dataclass(frozen=True, slots=True)
class Leftovers:
    """Indexes (schema, name) and server processes of a trial that are still on a target."""

    indexes: tuple[tuple[str, str], ...] = ()
    processes: tuple[int, ...] = ()

    def __bool__(self) -> bool:
        """Whether anything is left."""
        return bool(self.indexes or self.processes)

    def words(self) -> tuple[str, ...]:
        """Each of them in a few words."""
        return (
            *(f"index {schema}.{name}" for schema, name in self.indexes),
            *(f"server process {pid}" for pid in self.processes),
        )


class Arm(Protocol):
    """One side of an experiment: a connection on which statements are run and timed."""

    def run(self, statement: Statement) -> Outcome:
        """Run a statement and fetch its result; time it on the client."""
        ...

    def explain(self, statement: Statement, *, measure: bool) -> PlanDocument:
        """Explain a statement on this side."""
        ...

    def result_rows(self, statement: Statement) -> Iterable[tuple[bytes | None, ...]]:
        """Run a statement and hand over its rows in the server's text form."""
        ...


class Experiment(Protocol):
    """Two arms that differ by a change; leaving the context undoes the change."""

    @property
    def before(self) -> Arm:
        """The side without the change."""
        ...

    @property
    def after(self) -> Arm:
        """The side with the change."""
        ...

    @property
    def builds(self) -> Sequence[IndexBuild]:
        """What building took."""
        ...

    def local_processes(self) -> tuple[int, ...]:
        """The server's processes behind the two arms; () unless both run on this machine."""
        ...

    def lacking(self, name: str) -> AbstractContextManager[tuple[Arm, Arm]]:
        """The arm with the whole change but this index, and the one with all of it.

        Needs `Capability.HIDDEN_INDEX`; both arms of the pair bear the same overhead.
        """
        ...


class Stages(Protocol):
    """One arm on which the change can be made and unmade, for what cannot be had at once."""

    @property
    def arm(self) -> Arm:
        """The connection on which everything is run."""
        ...

    @property
    def builds(self) -> Sequence[IndexBuild]:
        """What building took, once it was made."""
        ...

    def make(self) -> None:
        """Make the change."""
        ...

    def unmake(self) -> None:
        """Take it back."""
        ...


class Client(Protocol):
    """One of several connections of a replay, used by one thread."""

    def run(self, statement: Statement) -> Outcome:
        """Run a statement and fetch its result; what it changes is taken back."""
        ...

    def do(self, sql: str) -> None:
        """Run a statement of ours in this session: a setting."""
        ...

    def cancel(self) -> None:
        """Stop what is running; may be called from another thread."""
        ...

    def close(self) -> None:
        """End the session."""
        ...


class Hands(Protocol):
    """A connection that may write, for changes that were settled."""

    def do(self, statement: str) -> float:
        """Run one statement; milliseconds."""
        ...

    def together(self, statements: Sequence[str], then: Callable[[], None]) -> None:
        """Run statements in one transaction: all of them come to be, or none.

        ``then`` is called when all have succeeded, before they are made to last.
        """
        ...

    def drop_if_invalid(self, schema: str, name: str) -> bool:
        """Drop an index that an online build left unfinished; whether there was one."""
        ...


class Session(Protocol):
    """A read-only connection to a target."""

    server: ServerFacts

    def can(self, capability: Capability) -> bool:
        """Whether this server is able to do that."""
        ...

    def explain(
        self, statement: Statement, *, measure: bool = False, allow_writes: bool = False
    ) -> PlanDocument:
        """The plan of a statement; with ``measure`` it is run."""
        ...

    def explain_without(
        self,
        statement: Statement,
        methods: Iterable[Method],
        *,
        measure: bool = False,
        at_most_ms: int | None = None,
    ) -> PlanDocument:
        """The plan of a statement if the server may not use these methods.

        With ``measure`` it is run, and given up after ``at_most_ms``.
        """
        ...

    def explain_under(
        self, statement: Statement, settings: Sequence[tuple[str, str]]
    ) -> PlanDocument:
        """The estimated plan of a statement under other settings, which then come back."""
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

    def changing_functions(self, names: Iterable[str]) -> frozenset[str]:
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

    def lasting(self, table: TableName, expression: str) -> bool:
        """Whether an index may rest on this expression: it never changes for the same row."""
        ...

    def operator_classes(self) -> frozenset[str]:
        """What indexes can be sorted or taken apart by here, as «method:class»."""
        ...

    def may_index(self, table: TableName) -> bool:
        """Whether we may build an index on this table: it is ours, or we may do everything."""
        ...

    def others_at_work(self, mark: str) -> tuple[str, ...]:
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


class Engine(Protocol):
    """One kind of server."""

    name: str

    def public_url(self, url: str) -> str:
        """The URL without its password: the only form that is stored or shown."""
        ...

    def not_kept(self, url: str) -> tuple[str, ...]:
        """The parameters of a URL that its public form leaves out, without their values."""
        ...

    def open(self, url: str, limits: Limits = ...) -> Session:
        """Open a read-only session."""
        ...

    def experiment(
        self,
        url: str,
        change: Change,
        mark: str,
        limits: Limits = ...,
    ) -> AbstractContextManager[Experiment]:
        """Make a change where only one arm sees it, and undo it at the end.

        Raises:
            GaveWay: somebody waited too long for the table; the change was taken back.
        """
        ...

    def stages(
        self, url: str, change: Change, mark: str, limits: Limits = ..., *, online: bool
    ) -> AbstractContextManager[Stages]:
        """One arm on which a change is made and unmade; it is undone at the end in any case.

        ``online``: for all sessions, while writers pass; else in a transaction of our own.
        """
        ...

    def write_runs(
        self,
        url: str,
        table: TableFacts,
        index_on: Callable[[TableName], str],
        updated: Sequence[str],
        mark: str,
        limits: Limits = ...,
    ) -> WriteRuns:
        """Time writes on two copies of a table, one of them with an index; all is rolled back.

        ``index_on`` gives the statement that builds the index on a table of that name;
        ``updated`` are the columns that updates should set, as far as they can.
        """
        ...

    def hide_index_sql(self, schema: str, name: str) -> str:
        """The statement that hides an index from the transaction it is run in."""
        ...

    def hands(
        self, url: str, limits: Limits = ..., mark: str = ...
    ) -> AbstractContextManager[Hands]:
        """A connection that may write, with the limits on waiting for locks."""
        ...

    def client(self, url: str, mark: str, limits: Limits = ..., *, writes: bool) -> Client:
        """A connection for a replay; read-only unless ``writes``."""
        ...

    def leftovers(self, url: str, indexes: Sequence[tuple[str, str]], mark: str) -> Leftovers:
        """What is left on the target of these indexes (schema, name), and of sessions carrying
        this mark. Of an index whose name does not bear the mark only an unfinished build is.
        """
        ...

    def remove_leftovers(self, url: str, left: Leftovers) -> None:
        """Remove them."""
        ...
