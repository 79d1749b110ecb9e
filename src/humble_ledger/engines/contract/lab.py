"""Trials: the two arms of an experiment, stages one after the other, and what they measure.

An *experiment* is the pair of connections between which a trial alternates: on one the change
exists, on the other it does not.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import Protocol

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract.plans import PlanDocument


@dataclass(frozen=True, slots=True)
class Outcome:
    """One timed run: client-side elapsed milliseconds and the rows that came."""

    elapsed_ms: float
    rows: int


@dataclass(frozen=True, slots=True)
class IndexBuild:
    """What building an index took: its name, milliseconds, bytes; and whether it is usable.

    ``unusable_because`` is empty when the building session may use the index at once. On a
    partitioned table ``parts`` are the names of the indexes of its partitions, which plans show.
    """

    name: str
    build_ms: float
    size_bytes: int
    unusable_because: str = ""
    parts: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class NewIndex:
    """An index to be made for a trial on a table, and the statements that make and remove it.

    The online ones let writers pass and cannot be part of a transaction.
    """

    schema: str
    name: str
    create_sql: str
    create_online_sql: str
    drop_online_sql: str
    table: str = ""


@dataclass(frozen=True, slots=True)
class Change:
    """What a trial changes: indexes that are made, others (schema, name) that are hidden as if they
    were not there (each of the table beside it in ``hidden_from``), and further statements
    (statistics, settings).

    ``writes`` tells that statements that change data will be run, each undone after.
    """

    indexes: tuple[NewIndex, ...] = ()
    others: tuple[str, ...] = ()
    hidden: tuple[tuple[str, str], ...] = ()
    hidden_from: tuple[str, ...] = ()
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
    """What is left of a trial: indexes (schema, name), server processes, copies on this machine.

    ``statistics`` are those that every session has, as `Server.gathered_for_all` names them.
    """

    indexes: tuple[tuple[str, str], ...] = ()
    processes: tuple[int, ...] = ()
    files: tuple[str, ...] = ()
    statistics: tuple[str, ...] = ()

    def __bool__(self) -> bool:
        """Whether anything is left."""
        return bool(self.indexes or self.processes or self.files or self.statistics)

    def words(self) -> tuple[str, ...]:
        """Each of them in a few words."""
        return (
            *(f"index {schema}.{name}" for schema, name in self.indexes),
            *(f"server process {pid}" for pid in self.processes),
            *(f"copy {path}" for path in self.files),
            *self.statistics,
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


class SequentialExperiment(Protocol):
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


class AdminSession(Protocol):
    """A connection that may write, for changes that were settled."""

    @property
    def saved_as(self) -> str:
        """Where the database is kept as it was before; "" where a server keeps its own."""
        ...

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
