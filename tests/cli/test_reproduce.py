"""A plan carried away as one file of SQL, and made again where there is not one row."""

from __future__ import annotations

import sqlite3
from contextlib import closing

import pytest

from tests.conftest import Server, only_newest
from tests.program import SENSOR, Program


def _lines(explained: list[tuple[object, ...]]) -> list[object]:
    return [row[3] for row in explained]


def test_a_plan_of_sqlite_is_made_again_on_an_empty_file(humble: Program) -> None:
    with closing(sqlite3.connect(humble.folder / "app.db")) as connection:
        connection.executescript(
            """
            CREATE TABLE buoy (id INTEGER PRIMARY KEY, "odd name" TEXT, kind TEXT);
            CREATE TABLE visit (id INTEGER PRIMARY KEY, buoy INTEGER, keeper INTEGER, day TEXT);
            CREATE INDEX visit_keeper ON visit (keeper);
            CREATE INDEX visit_buoy ON visit (buoy, day);
            CREATE TABLE other (a);
            """
        )
        connection.executemany(
            "INSERT INTO buoy VALUES (?, ?, ?)",
            ((n, f"it's {n}", "hull" if n % 50 else "ice") for n in range(300)),
        )
        connection.executemany(
            "INSERT INTO visit VALUES (?, ?, ?, ?)",
            ((n, n % 300, n * 31 % 7, f"2026-0{n % 9 + 1}") for n in range(9_000)),
        )
        connection.execute("ANALYZE")
        connection.commit()
    sql = (
        "SELECT v.day FROM visit v JOIN buoy b ON b.id = v.buoy WHERE v.keeper = 3 AND "
        "b.\"odd name\" = 'it''s 7'"
    )
    humble.ok("init", "app.db")
    humble.ok("plan", sql)
    said = humble.ok("export", "q1", "--reproduce").out
    assert "q1.sql" in said
    text = (humble.folder / "q1.sql").read_text()
    assert "CREATE TABLE other" not in text and "sqlite3 q1.db < q1.sql" in text
    with closing(sqlite3.connect(humble.folder / "app.db")) as there:
        wanted = _lines(there.execute(f"EXPLAIN QUERY PLAN {sql}").fetchall())
    with closing(sqlite3.connect(humble.folder / "empty.db")) as empty:
        *making, explain = text.rpartition("EXPLAIN")
        empty.executescript(making[0])
        empty.commit()
    with closing(sqlite3.connect(humble.folder / "empty.db")) as empty:
        assert empty.execute("SELECT count(*) FROM visit").fetchone() == (0,)
        assert _lines(empty.execute(f"EXPLAIN{explain}").fetchall()) == wanted
    assert "one statement" in humble.fails(2, "export", "--reproduce")
    assert "hold values" in humble.fails(2, "export", "q1", "--reproduce", "--mask")


@only_newest
def test_a_plan_of_a_server_is_made_again_on_a_copy_without_rows(
    begun: Program, server: Server
) -> None:
    query = begun.query_with(SENSOR)
    there = begun.json("plan", query)
    done = begun.json("export", query, "--reproduce", "--to", "slow.sql")
    text = (begun.folder / "slow.sql").read_text()
    assert done["bytes"] == len(text.encode())
    assert "reading" in text and "CREATE TABLE public.keeper" not in text
    (build,) = [line[5:] for line in text.splitlines() if "humble hollow build" in line]
    begun.ok(*build.split()[1:])
    try:
        sql = text.rpartition("EXPLAIN ")[2].strip().rstrip(";")
        here = begun.json("plan", sql, "--target", "hollow:slow")
    finally:
        begun.ok("hollow", "drop", "slow")
    assert here["cost_total"] == pytest.approx(there["cost_total"], rel=0.02)
    assert [n["operation"] for n in _steps(here["root"])] == [
        n["operation"] for n in _steps(there["root"])
    ]


def _steps(node: dict) -> list[dict]:  # type: ignore[type-arg]
    return [node, *(step for child in node["children"] for step in _steps(child))]
