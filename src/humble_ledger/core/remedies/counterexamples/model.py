"""Small databases, what statements say of them, and what a search found."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from enum import StrEnum
from typing import Protocol

from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.kinds import Statement

Row = Mapping[str, str | None]


@dataclass(frozen=True, slots=True)
class SmallDatabase:
    """A few rows of each table, values in the server's text form, None for NULL.

    ``time_zone`` is the session's; "" for the server's own.
    """

    rows: Mapping[TableName, tuple[Row, ...]]
    time_zone: str = ""

    @property
    def size(self) -> int:
        """How many rows there are in all tables together."""
        return sum(map(len, self.rows.values()))


@dataclass(frozen=True, slots=True)
class Answer:
    """What a statement gave: its rows in the order they came, or the server's refusal."""

    rows: tuple[tuple[str | None, ...], ...] = ()
    error: str = ""

    @property
    def bag(self) -> tuple[tuple[str | None, ...], ...]:
        """The rows in an order of our own, for statements that promise none."""
        return tuple(sorted(self.rows, key=lambda row: [(v is None, v or "") for v in row]))


class Filled(Protocol):
    """A small database that stands on a server, for as long as it is asked."""

    @property
    def database(self) -> SmallDatabase:
        """What stands there: without the rows that a constraint of the schema refused."""
        ...

    def ask(self, statement: Statement) -> Answer:
        """Run a statement that only reads; after a refusal nothing more is asked."""
        ...


class Arena(Protocol):
    """Tables like the target's, empty, with its constraints, on a server of ours."""

    def typical(
        self, table: TableName, constants: Mapping[str, Sequence[str]]
    ) -> Mapping[str, Sequence[str]]:
        """For each column that takes values, some of its type at which statements go wrong.

        ``constants`` are what columns are compared with; those that are of the column's type,
        and values just beside them, come first. A type of which no value is known has none.
        """
        ...

    def filled(
        self, database: SmallDatabase, *, backwards: bool = False
    ) -> AbstractContextManager[Filled]:
        """Put rows into the tables, in their order or in the opposite one; gone afterwards."""
        ...


class Demand(StrEnum):
    """What could be known of a column, and is not."""

    NEVER_NULL = "never NULL"
    UNIQUE = "unique"


@dataclass(frozen=True, slots=True)
class Condition:
    """A condition that the schema does not state: what a column's values are like."""

    table: TableName
    column: str
    demand: Demand

    @property
    def words(self) -> str:
        """As it is said in a sentence."""
        return f"{self.table}.{self.column} is {self.demand}"


@dataclass(frozen=True, slots=True)
class Example:
    """The smallest database found on which two statements differ, and what each gave."""

    database: SmallDatabase
    old: Answer
    new: Answer

    @property
    def words(self) -> str:
        """The rows and both results, in one line."""
        return f"with {database_words(self.database)}, {answers_words(self.old, self.new)}"


@dataclass(frozen=True, slots=True)
class Search:
    """What a search found.

    The old statement answered on ``databases``, on ``with_rows`` of them with any row. Without
    an ``example`` none told the two apart. With one, they are the same under the ``missing``
    conditions, as far as was searched; never, when there are none. ``unable`` says why nothing
    could be searched.
    """

    databases: int = 0
    with_rows: int = 0
    example: Example | None = None
    missing: tuple[Condition, ...] = ()
    unable: str = ""

    @property
    def refuted(self) -> bool:
        """Whether the statements differ, and nothing that the schema lacks would mend that."""
        return self.example is not None and not self.missing


Enough = Callable[[], bool]


def database_words(database: SmallDatabase) -> str:
    """A small database in words: "alert (kind = 'x', buoy_id = NULL) and no row of buoy"."""
    parts = []
    for table, rows in database.rows.items():
        shown = ", ".join(
            f"({', '.join(f'{column} = {_literal(v)}' for column, v in row.items())})"
            for row in rows
        )
        parts.append(f"{table} {shown}" if rows else f"no row of {table}")
    zone = f" in the time zone {database.time_zone}" if database.time_zone else ""
    return " and ".join(parts) + zone


def answers_words(old: Answer, new: Answer) -> str:
    """Two answers that differ, in words."""
    if new.error:
        return f"the old statement gives {_rows_words(old)} and the new one fails: {new.error}"
    if old.bag == new.bag:
        return "the rows come in another order"
    return f"the old statement gives {_rows_words(old)}, the new one {_rows_words(new)}"


MOST_SHOWN = 3


def _rows_words(answer: Answer) -> str:
    if not answer.rows:
        return "no row"
    if len(answer.rows[0]) > MOST_SHOWN:
        return f"{len(answer.rows)} row{'s' if len(answer.rows) > 1 else ''}"
    shown = ", ".join(f"({', '.join(map(_literal, row))})" for row in answer.rows[:MOST_SHOWN])
    more = len(answer.rows) - MOST_SHOWN
    return f"{shown} and {more} more" if more > 0 else shown


def _literal(value: str | None) -> str:
    if value is None:
        return "NULL"
    shown = value if len(value) <= 40 else f"{value[:39]}…"
    return "'" + shown.replace("'", "''") + "'"
