"""A copy of the target without its rows: the real planner, told of indexes that are not there.

The planner asks nothing but the schema and the statistics tables (12 of 12 plans were the same
on such a copy), so an empty database in memory with these is all it takes. A supposed index is
created there, with a row in ``sqlite_stat1`` of its own, as ANALYZE would write it.
"""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field

import apsw

from humble_ledger.core.costs.model import IndexShape
from humble_ledger.core.remedies.counterexamples.model import Arena
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.together import ColumnGroup
from humble_ledger.core.schema.facts import ColumnFacts, TableFacts, TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import ANY_NUMBER, EXACT, ExplainOptions, PlanDocument
from humble_ledger.engines.sqlite.arena import arena_over
from humble_ledger.engines.sqlite.explain import explained, listing
from humble_ledger.engines.sqlite.faults import translated
from humble_ledger.engines.sqlite.ground import Ground
from humble_ledger.engines.sqlite.guard import Guard, harden
from humble_ledger.engines.sqlite.one_statement import execute
from humble_ledger.engines.sqlite.plans.blocks import Condition
from humble_ledger.engines.sqlite.samples import quoted
from humble_ledger.engines.sqlite.supposed_statistics import statistics_of
from humble_ledger.errors import StatementRejected, TargetUnreachable

_AS_THEY_ARE: Mapping[TableName, float] = {}
_NAME = "humble_supposed_{}"


@dataclass(slots=True)
class Supposed:
    """A ground with indexes that are not there, some that are supposed gone, and other sizes.

    See `plans.knowledge.Knowledge`.
    """

    ground: Ground
    designs: dict[str, tuple[IndexDesign, IndexShape]] = field(default_factory=dict)
    times: Mapping[str, float] = field(default_factory=dict)

    def facts(self, table: str) -> TableFacts | None:
        """A table's facts, at the size that is supposed."""
        found = self.ground.facts(table)
        part = self.times.get(found.name.name, 1.0) if found is not None else 1.0
        return found if found is None or part == 1.0 else _grown(found, part)

    def shape(self, table: str, index: str) -> IndexShape | None:
        """The size of an index."""
        part = self.times.get(table, 1.0)
        given = self.designs.get(index)
        found = given[1] if given is not None else self.ground.shape(table, index)
        if found is None or part == 1.0:
            return found
        pages = max(1, round(found.pages * part))
        return IndexShape(pages, found.levels, found.entries * part)

    def keys(self, table: str, index: str) -> Sequence[str]:
        """The columns of its keys."""
        given = self.designs.get(index)
        return given[0].key_columns if given is not None else self.ground.keys(table, index)

    def unique(self, table: str, index: str) -> int | None:
        """How many keys together are unique: never those of a supposed one."""
        return None if index in self.designs else self.ground.unique(table, index)

    def share(self, table: str, alias: str, conditions: Sequence[Condition]) -> float:
        """The part of the rows that meets conditions, whatever the size."""
        return self.ground.share(table, alias, conditions)

    def distinct(self, table: str, column: str) -> float:
        """How many different values: more where each row has its own."""
        found = self.ground.distinct(table, column)
        facts = self.ground.facts(table)
        held = facts.columns.get(column) if facts is not None else None
        grows = held is not None and held.distinct is not None and held.distinct < 0
        return found * (self.times.get(table, 1.0) if grows else 1.0)


@dataclass(slots=True)
class SqliteHollow:
    """See `engines.contract.Hollow`."""

    ground: Ground
    connection: apsw.Connection
    notes: list[str]
    guard: Guard
    asked: int = 0
    tolerance: float = EXACT
    most_at_once: int = ANY_NUMBER
    _numbers: dict[IndexDesign, int] = field(default_factory=dict)
    _there: frozenset[tuple[IndexDesign, IndexShape]] = frozenset()
    _gone: frozenset[str] = frozenset()
    _times: Mapping[str, float] = field(default_factory=dict)

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
        """The plan if these indexes were there; see `engines.contract.Hollow`."""
        if options.settings:
            raise StatementRejected("SQLite has no settings that change a plan.")
        if together:
            raise StatementRejected("SQLite keeps no statistics of several columns but of indexes.")
        times = {table.name: part for table, part in rows.items()}
        gone = frozenset(each.name for each in without)
        self._become(designs, gone, times)
        supposed = Supposed(
            self.ground,
            {self._name(d): (d, s) for d, s in designs.items()},
            times,
        )
        self.asked += 1
        with translated(self.ground.reader.path):
            found = listing(self.connection, statement, self.ground.schema)
        return explained(found, statement, self.ground.schema, supposed)

    def names(self, designs: Mapping[IndexDesign, IndexShape]) -> Mapping[str, IndexDesign]:
        """What supposed indexes are called in plans."""
        return {self._name(design): design for design in designs}

    def guesses(self, design: IndexDesign) -> bool:
        """See `engines.contract.Hollow`: expressions are sampled as columns are."""
        return False

    def forget(self, designs: Mapping[IndexDesign, IndexShape]) -> None:
        """Nothing is kept for the next time."""

    @contextmanager
    def arena(self, tables: Sequence[TableName]) -> Iterator[Arena]:
        """These tables with nothing in them, in a database of their own."""
        with arena_over(self.ground, tables) as made:
            yield made

    def _name(self, design: IndexDesign) -> str:
        number = self._numbers.setdefault(design, len(self._numbers) + 1)
        return _NAME.format(number)

    def _become(
        self,
        designs: Mapping[IndexDesign, IndexShape],
        gone: frozenset[str],
        times: Mapping[str, float],
    ) -> None:
        """Make and remove what is supposed: only what changed since the last question."""
        wanted = frozenset(designs.items())
        if wanted == self._there and gone == self._gone and dict(times) == dict(self._times):
            return
        self.guard.ours = True
        try:
            with translated(self.ground.reader.path):
                for design, _ in self._there - wanted:
                    self.connection.execute(f"DROP INDEX IF EXISTS {self._name(design)}")
                for design, _ in wanted - self._there:
                    execute(self.connection, design.create_sql(self._name(design)))
                self._hide(gone)
                self._write_statistics(designs, times)
        except BaseException:
            self._there, self._gone = frozenset(), frozenset()
            fresh = connection_like(self.ground, self.guard)
            self.connection.close()
            self.connection = fresh
            raise
        finally:
            self.guard.ours = False
        self._there, self._gone, self._times = wanted, gone, dict(times)

    def _hide(self, gone: frozenset[str]) -> None:
        texts = {i.name: i.sql for t in self.ground.schema.values() for i in t.indexes}
        for name in self._gone - gone:
            execute(self.connection, texts[name])
        for name in gone - self._gone:
            if not texts.get(name):
                raise StatementRejected(f"{name} belongs to a constraint and cannot be away.")
            self.connection.execute(f"DROP INDEX {quoted(name)}")

    def _write_statistics(
        self, designs: Mapping[IndexDesign, IndexShape], times: Mapping[str, float]
    ) -> None:
        """The statistics of the target, with a row for each supposed index."""
        written = self.ground.statistics.written
        if not written and not designs:
            self.connection.execute("DROP TABLE IF EXISTS sqlite_stat1")
            self.connection.execute("ANALYZE sqlite_schema")
            return
        self.connection.execute("ANALYZE sqlite_schema")  # makes the tables
        self.connection.execute("DELETE FROM sqlite_stat1")
        small = {name.lower(): part for name, part in times.items()}
        for table, index, text, *_ in written.get("sqlite_stat1", ()):
            part = small.get(str(table).lower(), 1.0)
            self.connection.execute(
                "INSERT INTO sqlite_stat1 VALUES (?, ?, ?)",
                (table, index, self._grown(str(table), index, str(text), part)),
            )
        self.connection.execute("DELETE FROM sqlite_stat4")
        if not times:
            self.connection.executemany(
                "INSERT INTO sqlite_stat4 VALUES (?, ?, ?, ?, ?, ?)",
                written.get("sqlite_stat4", ()),
            )
        for design, shape in designs.items():
            entries = max(1.0, shape.entries * small.get(design.table.name.lower(), 1.0))
            told = statistics_of(self.ground, design, entries)
            name = (design.table.name, self._name(design))
            self.connection.execute(
                "INSERT INTO sqlite_stat1 VALUES (?, ?, ?)", (*name, told.numbers)
            )
            self.connection.executemany(
                "INSERT INTO sqlite_stat4 VALUES (?, ?, ?, ?, ?, ?)",
                [(*name, *each) for each in told.samples],
            )
        self.connection.execute("ANALYZE sqlite_schema")

    def _grown(self, table: str, index: object, text: str, part: float) -> str:
        """A row of statistics for so many times the rows; unique keys stay unique."""
        if part == 1.0:
            return text
        words = text.split()
        numbers = [float(w) for w in words if w.isdigit()]
        others = [w for w in words if not w.isdigit()]
        grown = [numbers[0] * part, *(n if n <= 1 else n * part for n in numbers[1:])]
        return " ".join([*(str(max(1, round(n))) for n in grown), *others])


def connection_like(ground: Ground, guard: Guard) -> apsw.Connection:
    """An empty database in memory with the target's schema.

    Raises:
        TargetUnreachable: the schema cannot be made again.
    """
    connection = apsw.Connection(":memory:")
    harden(connection)
    guard.ours = True
    connection.authorizer = guard
    try:
        connection.execute(f"PRAGMA page_size = {ground.sizes.page_bytes}")
        for sql in _in_order(ground):
            with contextlib.suppress(apsw.SQLError, StatementRejected):
                execute(connection, sql)
        missing = _missing(connection, ground)
    finally:
        guard.ours = False
    if missing:
        connection.close()
        raise TargetUnreachable(
            f"No copy without rows can be made: {missing} cannot be made again here.",
            "It may need a function, a collation or a module that the application brings along.",
        )
    return connection


def _in_order(ground: Ground) -> Iterator[str]:
    """The statements of the schema: tables first, then what rests on them."""
    tables = list(ground.schema.values())
    virtual = [t.name for t in tables if t.kind == "virtual"]
    yield from (t.sql for t in tables if t.kind == "virtual")
    for table in tables:
        shadow = any(table.name.startswith(f"{name}_") for name in virtual)
        if table.kind == "table" and not shadow:
            yield table.sql
            yield from (i.sql for i in table.indexes if i.sql)
    yield from (t.sql for t in tables if t.kind == "view")
    yield from (sql for t in tables for sql in t.triggers)


def _missing(connection: apsw.Connection, ground: Ground) -> str:
    there = {str(name).lower() for (name,) in connection.execute("SELECT name FROM sqlite_schema")}
    for table in ground.schema.values():
        if table.kind != "table":
            continue
        for name in (table.name, *(i.name for i in table.indexes if i.sql)):
            if name.lower() not in there:
                return name
    return ""


def _grown(facts: TableFacts, part: float) -> TableFacts:
    columns: Mapping[str, ColumnFacts] = facts.columns
    pages = max(1, round(facts.pages * part))
    return type(facts)(
        facts.name, facts.kind, facts.rows * part, pages, pages * facts.page_bytes,
        facts.page_bytes, columns, facts.indexes, storage=facts.storage,
        foreign_keys=facts.foreign_keys,
    )  # fmt: skip


@contextmanager
def hollow_of(ground: Ground) -> Iterator[SqliteHollow]:
    """A copy without rows, for as long as it is asked."""
    guard = Guard(writes=True)
    ground.refresh()
    connection = connection_like(ground, guard)
    made = SqliteHollow(ground, connection, [], guard)
    try:
        guard.ours = True
        with translated(ground.reader.path):
            made._write_statistics({}, {})
        guard.ours = False
        yield made
    finally:
        made.connection.close()
