"""Statements written otherwise, run against the old ones on rows with NULLs, ties and repeats."""

from __future__ import annotations

from collections.abc import Iterator

import psycopg
import pytest

from humble_ledger.core.remedies.rewrites.model import Rewriting
from humble_ledger.core.remedies.rewrites.registry import rewritings
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.postgresql.session import PostgresSession
from tests.conftest import Server, only_newest, only_oldest
from tests.program import Program

SCHEMA = """
CREATE SCHEMA rewritten;
CREATE TABLE rewritten.coast (coast_id int PRIMARY KEY, name text NOT NULL);
CREATE TABLE rewritten.mark (mark_id int PRIMARY KEY,
    coast_id int NOT NULL REFERENCES rewritten.coast, kind text, height int, "order" int);
CREATE TABLE rewritten.sight (sight_id int PRIMARY KEY, mark_id int, other_id int NOT NULL,
    seen int, at date NOT NULL);
INSERT INTO rewritten.coast SELECT n, 'coast ' || n FROM generate_series(1, 6) n;
INSERT INTO rewritten.mark SELECT n, 1 + n % 5, CASE WHEN n % 4 > 0 THEN 'k' || n % 3 END,
    CASE WHEN n % 5 > 0 THEN n % 7 END, n % 2 FROM generate_series(1, 40) n;
INSERT INTO rewritten.sight SELECT n, CASE WHEN n % 6 > 0 THEN n % 30 END, n % 30,
    CASE WHEN n % 4 > 0 THEN n % 9 END, date '2026-01-01' + n % 11 FROM generate_series(1, 300) n;
ANALYZE;
"""
# A statement and how many ways there are to write it otherwise.
ALWAYS_THE_SAME = [
    "SELECT mark_id, kind FROM mark WHERE kind = 'k1' OR height = 3",
    "SELECT kind FROM mark WHERE height > 2 AND (kind = 'k1' OR height = 3 OR \"order\" = 1)",
    "SELECT mark_id, kind FROM mark WHERE kind IS NULL OR height IS NULL ORDER BY mark_id LIMIT 7",
    "SELECT m.height, m.kind FROM mark m JOIN coast c ON c.coast_id = m.coast_id "
    "WHERE c.name = 'coast 2' OR m.kind = 'k0' ORDER BY kind, m.height NULLS FIRST",
    "SELECT mark_id FROM mark m WHERE mark_id NOT IN (SELECT other_id FROM sight s)",
    "SELECT DISTINCT c.coast_id, c.name FROM coast c JOIN mark m ON m.coast_id = c.coast_id "
    "WHERE m.kind = 'k1'",
    "SELECT DISTINCT c.name FROM coast c, mark m, sight s WHERE m.coast_id = c.coast_id "
    "AND s.mark_id = m.mark_id AND s.seen > 3 AND c.coast_id < 5 ORDER BY c.name",
    "SELECT DISTINCT m.kind, m.height FROM mark m JOIN sight s ON s.mark_id = m.mark_id",
    "SELECT c.name, (SELECT count(*) FROM mark m WHERE m.coast_id = c.coast_id) AS marks "
    "FROM coast c",
    "SELECT c.name, (SELECT count(height) FROM mark m WHERE m.coast_id = c.coast_id), "
    "(SELECT max(height) FROM mark m WHERE m.coast_id = c.coast_id AND kind = 'k1') FROM coast c "
    "WHERE c.coast_id > 1 ORDER BY 1",
    "SELECT m.mark_id, (SELECT sum(seen) FROM sight s WHERE s.mark_id = m.height) FROM mark m",
    "SELECT c.coast_id, c.name, count(*), max(m.height) FROM mark m JOIN coast c "
    "ON c.coast_id = m.coast_id GROUP BY c.coast_id, c.name",
    "SELECT c.coast_id, sum(m.height) AS heights, count(m.kind) FROM coast c, mark m "
    "WHERE c.coast_id = m.coast_id AND m.\"order\" = 1 AND c.name <> 'coast 3' "
    "GROUP BY c.coast_id ORDER BY heights",
    "SELECT count(*) FROM sight WHERE seen > (SELECT avg(seen) FROM sight) "
    "OR other_id > (SELECT avg(seen) FROM sight)",
]  # fmt: skip
# These must be left as they are: written that way they would mean something else.
LEFT_ALONE = [
    "SELECT count(*) FROM mark WHERE kind = 'k1' OR height = 3",
    "SELECT DISTINCT kind FROM mark WHERE kind = 'k1' OR height = 3",
    "SELECT height FROM mark WHERE kind = 'k1' OR height = 3 ORDER BY mark_id",
    "SELECT DISTINCT c.name, m.kind FROM coast c JOIN mark m ON m.coast_id = c.coast_id",
    "SELECT DISTINCT c.name FROM coast c LEFT JOIN mark m ON m.coast_id = c.coast_id",
    "SELECT c.name, (SELECT m.kind FROM mark m WHERE m.coast_id = c.coast_id LIMIT 1) FROM coast c",
    "SELECT c.name, (SELECT count(*) FROM mark m WHERE m.coast_id > c.coast_id) FROM coast c",
    "SELECT m.height, count(*) FROM mark m JOIN sight s ON s.mark_id = m.mark_id GROUP BY m.height",
    "SELECT m.mark_id, count(DISTINCT s.seen) FROM mark m JOIN sight s ON s.mark_id = m.mark_id "
    "GROUP BY m.mark_id",
    "SELECT sight_id FROM sight ORDER BY at DESC, sight_id LIMIT 5 OFFSET 50",  # two directions
    "SELECT sight_id FROM sight ORDER BY seen LIMIT 5 OFFSET 50",  # NULLs
]


@pytest.fixture(scope="module")
def made(server: Server) -> Iterator[str]:
    """The tables of these tests, in a schema of their own."""
    server.do("DROP SCHEMA IF EXISTS rewritten CASCADE")
    with psycopg.connect(server.url, autocommit=True) as connection:
        connection.execute(SCHEMA.replace("ANALYZE;", "").encode())
        for table in ("coast", "mark", "sight"):
            connection.execute(f"ANALYZE rewritten.{table}".encode())
    yield server.url
    server.do("DROP SCHEMA rewritten CASCADE")


def _tables(url: str) -> dict[TableName, TableFacts]:
    session = PostgresSession(url, Limits())
    try:
        names = [TableName("rewritten", name) for name in ("coast", "mark", "sight")]
        found = session.tables(names)
    finally:
        session.close()
    # As statements name them without a schema.
    from dataclasses import replace  # noqa: PLC0415

    return {
        TableName("public", name.name): replace(facts, name=TableName("public", name.name),
            foreign_keys=tuple(replace(k, refers_to=TableName("public", k.refers_to.name))
                               for k in facts.foreign_keys))
        for name, facts in found.items()
    }  # fmt: skip


def _ways(url: str, sql: str) -> list[Rewriting]:
    return list(rewritings(sql, _tables(url)))


def _rows(connection: psycopg.Connection[tuple[object, ...]], sql: str) -> list[str]:
    found = [str(row) for row in connection.execute(sql.encode()).fetchall()]
    return found if "ORDER BY" in sql and "ties" not in sql else sorted(found)


@only_newest
def test_what_always_means_the_same_gives_the_same_rows(made: str, server: Server) -> None:
    with psycopg.connect(made) as connection:
        connection.execute("SET search_path = rewritten")
        for sql in ALWAYS_THE_SAME:
            ways = [way for way in _ways(made, sql) if not way.same_when or "functions" in
                    way.same_when]  # fmt: skip
            assert ways, f"no other way was found for {sql}"
            for way in ways:
                assert sorted(_rows(connection, sql)) == sorted(_rows(connection, way.sql)), way.sql
                old = [c.name for c in connection.execute(sql.encode()).description or ()]
                new = [c.name for c in connection.execute(way.sql.encode()).description or ()]
                assert old == new, way.sql


@only_newest
def test_what_would_mean_something_else_is_left_alone(made: str, server: Server) -> None:
    for sql in LEFT_ALONE:
        assert [way.sql for way in _ways(made, sql)] == [], sql


@only_newest
def test_nulls_are_a_condition_that_is_told(made: str, server: Server) -> None:
    old = "SELECT mark_id FROM mark WHERE mark_id NOT IN (SELECT mark_id FROM sight)"
    (way,) = _ways(made, old)
    assert "mark_id of the sub-query is NULL" in way.same_when
    with psycopg.connect(made) as connection:
        connection.execute("SET search_path = rewritten")
        rows = connection.execute(way.sql.encode()).fetchall()
        assert connection.execute(old.encode()).fetchall() == []
        assert rows  # the condition is not met, and the results differ


@only_oldest
def test_pages_by_the_last_row_are_the_pages_that_were_counted(made: str, server: Server) -> None:
    sql = "SELECT sight_id, at FROM sight ORDER BY at DESC, sight_id DESC LIMIT 9 OFFSET 70"
    (way,) = _ways(made, sql)
    with psycopg.connect(made) as connection:
        connection.execute("SET search_path = rewritten")
        last = connection.execute(way.values_from.encode()).fetchone()
        cursor = psycopg.RawCursor(connection)
        new = cursor.execute(way.sql.encode(), last).fetchall()
        assert new == connection.execute(sql.encode()).fetchall()
    assert "one after the other" in way.same_when


@only_oldest
def test_a_table_that_nothing_ties_is_a_question(made: str, server: Server) -> None:
    ways = _ways(made, "SELECT m.kind FROM mark m, coast c WHERE m.height = 3")
    assert ways and all(way.question for way in ways)
    assert {"was m.coast_id = c.coast_id meant" in way.done for way in ways} == {True, False}
    without = next(way for way in ways if "is coast needed" in way.done)
    assert "coast" not in without.sql.split("FROM")[1]


@only_newest
def test_a_wrong_rewriting_is_never_called_faster(begun: Program, server: Server) -> None:
    forgotten = begun.query_with("s.buoy_id = b.buoy_id AND s.kind")
    begun.ok("diagnose", forgotten, "--measure")
    found = begun.json("propose", forgotten, "--type", "rewrite")["remedies"]
    assert found[0]["summary"].startswith("a question: was b.region_id = r.region_id meant")
    trial = begun.json("trial", forgotten, "--remedy", found[0]["id"], "--pairs", "6")
    (tried,) = trial["queries"]
    assert not tried["same_result"] and tried["verdict"] == "undecided"
