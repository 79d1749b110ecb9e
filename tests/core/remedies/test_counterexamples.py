"""The search for small databases that tell two statements apart, on an engine of the test's."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from random import Random

import pytest

from humble_ledger.core.remedies.counterexamples.making import Maker
from humble_ledger.core.remedies.counterexamples.model import (
    Answer,
    Condition,
    Demand,
    SmallDatabase,
)
from humble_ledger.core.remedies.counterexamples.searching import Pair, search
from humble_ledger.core.schema.facts import (
    ColumnFacts,
    ForeignKey,
    IndexFacts,
    IndexKey,
    TableFacts,
    TableName,
)
from humble_ledger.core.statements.kinds import Statement

BUOY, ALERT = TableName("", "buoy"), TableName("", "alert")


def _table(
    name: TableName, columns: Mapping[str, bool], key: str, refers: ForeignKey | None = None
) -> TableFacts:
    """A table whose columns are (not) nullable whole numbers."""
    return TableFacts(
        name,
        "table",
        100.0,
        1,
        8192,
        columns={
            c: ColumnFacts(c, "integer", place, not_null, 4, 4)
            for place, (c, not_null) in enumerate(columns.items(), start=1)
        },
        indexes=(IndexFacts("pk", "btree", (IndexKey(key),), unique=True, primary=True),),
        foreign_keys=(refers,) if refers is not None else (),
    )


REFERS = ForeignKey("of_buoy", ("buoy_id",), BUOY, ("buoy_id",))
TABLES = {
    BUOY: _table(BUOY, {"buoy_id": True, "depth": False}, "buoy_id"),
    ALERT: _table(ALERT, {"alert_id": True, "buoy_id": False, "code": True}, "alert_id", REFERS),
}


@dataclass
class _Sqlite:
    """An arena in memory; it counts what it was asked."""

    connection: sqlite3.Connection
    filled_times: int = 0

    def typical(
        self, table: TableName, constants: Mapping[str, Sequence[str]]
    ) -> Mapping[str, Sequence[str]]:
        return {c: [*constants.get(c, ()), "1", "2", "0"] for c in TABLES[table].columns}

    @contextlib.contextmanager
    def filled(self, database: SmallDatabase, *, backwards: bool = False) -> Iterator[_Sqlite]:
        self.filled_times += 1
        self.database = database
        for table, rows in database.rows.items():
            for row in rows[::-1] if backwards else rows:
                marks = ", ".join("?" for _ in row)
                self.connection.execute(
                    f"INSERT INTO {table.name} ({', '.join(row)}) VALUES ({marks})",
                    [None if v is None else int(v) for v in row.values()],
                )
        try:
            yield self
        finally:
            self.connection.rollback()

    def ask(self, statement: Statement) -> Answer:
        try:
            rows = self.connection.execute(statement.sql).fetchall()
        except sqlite3.Error as error:
            return Answer(error=str(error))
        return Answer(tuple(tuple(None if v is None else str(v) for v in row) for row in rows))


@pytest.fixture
def arena() -> Iterator[_Sqlite]:
    connection = sqlite3.connect(":memory:")
    connection.execute("CREATE TABLE buoy (buoy_id int PRIMARY KEY, depth int)")
    connection.execute("CREATE TABLE alert (alert_id int PRIMARY KEY, buoy_id int, code int)")
    connection.commit()
    yield _Sqlite(connection)
    connection.close()


def _pair(old: str, new: str) -> Pair:
    return Pair(Statement(old), Statement(new))


OUTSIDE = "SELECT buoy_id FROM buoy WHERE buoy_id NOT IN (SELECT buoy_id FROM alert)"
NO_SUCH = (
    "SELECT buoy_id FROM buoy b WHERE NOT EXISTS "
    "(SELECT 1 FROM alert a WHERE a.buoy_id = b.buoy_id)"
)
SAME = [
    (NO_SUCH, "SELECT b.buoy_id FROM buoy b LEFT JOIN alert a USING (buoy_id) "
              "WHERE a.alert_id IS NULL"),
    ("SELECT buoy_id FROM buoy WHERE depth > 1 OR depth <= 1",
     "SELECT buoy_id FROM buoy WHERE depth IS NOT NULL"),
    # The foreign key makes the join lose nothing but what has no buoy.
    ("SELECT a.alert_id FROM alert a JOIN buoy b USING (buoy_id)",
     "SELECT alert_id FROM alert WHERE buoy_id IS NOT NULL"),
    # Which of two equal ones comes is the server's choice, for both.
    ("SELECT code FROM alert ORDER BY code LIMIT 1",
     "SELECT code FROM (SELECT code FROM alert ORDER BY code) x LIMIT 1"),
]  # fmt: skip
DIFFERENT = [
    (OUTSIDE, NO_SUCH, ["alert.buoy_id is never NULL"]),
    ("SELECT count(depth) FROM buoy", "SELECT count(*) FROM buoy", ["buoy.depth is never NULL"]),
    ("SELECT DISTINCT code FROM alert", "SELECT code FROM alert", ["alert.code is unique"]),
    ("SELECT depth FROM buoy WHERE depth >= 4711", "SELECT depth FROM buoy WHERE depth > 4711",
     []),
    ("SELECT sum(depth) FROM buoy", "SELECT coalesce(sum(depth), 0) FROM buoy", []),
    ("SELECT buoy_id FROM buoy ORDER BY buoy_id", "SELECT buoy_id FROM buoy ORDER BY buoy_id DESC",
     []),
    ("SELECT depth FROM buoy", "SELECT depth FROM buoy WHERE no_such = 1", []),
]  # fmt: skip


@pytest.mark.parametrize(("old", "new"), SAME)
def test_what_means_the_same_is_not_told_apart(arena: _Sqlite, old: str, new: str) -> None:
    found = search(arena, TABLES, _pair(old, new))
    assert found.example is None and not found.unable
    assert found.databases == 300 and found.with_rows > 50


@pytest.mark.parametrize(("old", "new", "missing"), DIFFERENT)
def test_what_differs_is_shown_on_few_rows(
    arena: _Sqlite, old: str, new: str, missing: list[str]
) -> None:
    found = search(arena, TABLES, _pair(old, new))
    assert found.example is not None
    assert found.example.database.size <= 2, found.example.words
    assert [each.words for each in found.missing] == missing
    assert found.refuted == (not missing)


def test_the_example_is_what_a_reader_can_try(arena: _Sqlite) -> None:
    found = search(arena, TABLES, _pair(OUTSIDE, NO_SUCH))
    assert found.example is not None
    assert found.example.words == (
        "with buoy (buoy_id = '1') and alert (buoy_id = NULL), "
        "the old statement gives no row, the new one ('1')"
    ), found.example.words


def test_a_statement_that_fails_everywhere_tells_nothing(arena: _Sqlite) -> None:
    found = search(arena, TABLES, _pair("SELECT no_such FROM buoy", "SELECT 1 FROM buoy"))
    assert found.example is None and found.databases == 0
    assert "no such column" in found.unable


def test_it_ends_when_there_was_enough(arena: _Sqlite) -> None:
    pair = _pair("SELECT depth FROM buoy", "SELECT depth FROM buoy")
    found = search(arena, TABLES, pair, enough=lambda: arena.filled_times >= 7)
    assert found.databases == 7


def test_a_type_without_values_is_said() -> None:
    class Unknown(_Sqlite):
        def typical(
            self, table: TableName, constants: Mapping[str, Sequence[str]]
        ) -> Mapping[str, Sequence[str]]:
            return {c: [] for c in TABLES[table].columns}

    with contextlib.closing(sqlite3.connect(":memory:")) as connection:
        found = search(Unknown(connection), TABLES, _pair("SELECT 1", "SELECT 1"))
    assert found.unable == "no values of the type integer are known"


@pytest.mark.parametrize("seed", range(5))
def test_every_database_is_one_that_the_schema_allows(seed: int) -> None:
    pools = {t: {c: ["1", "2", "3"] for c in facts.columns} for t, facts in TABLES.items()}
    conditions = (
        Condition(BUOY, "depth", Demand.NEVER_NULL),
        Condition(ALERT, "code", Demand.UNIQUE),
    )
    maker = Maker(TABLES, pools, Random(seed), conditions)
    made = maker.fresh()
    empty = nulls = repeated = 0
    for _ in range(400):
        made = maker.like(made) if made.size % 2 else maker.fresh()
        buoys, alerts = made.rows[BUOY], made.rows[ALERT]
        ids = [b["buoy_id"] for b in buoys]
        assert len(set(ids)) == len(ids) and None not in ids
        assert all(b["depth"] is not None for b in buoys)
        assert all(a["buoy_id"] in {*ids, None} for a in alerts)
        codes = [a["code"] for a in alerts]
        assert len(set(codes)) == len(codes) and None not in codes
        empty += not buoys
        nulls += any(a["buoy_id"] is None for a in alerts)
        repeated += len({b["depth"] for b in buoys}) < len(buoys)
    assert min(empty, nulls, repeated) > 20
