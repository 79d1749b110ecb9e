"""Every engine passes the same checks: PostgreSQL in each version here, and the toy."""

from __future__ import annotations

import os
import sqlite3
import tempfile
from contextlib import closing
from pathlib import Path

import pytest

from humble_ledger.engines.mysql.engine import MariadbEngine, MysqlEngine
from humble_ledger.engines.postgresql.engine import PostgresEngine
from humble_ledger.engines.sqlite.engine import SqliteEngine
from tests.conftest import Maria, Server, only_mariadb
from tests.engines.conformance import CHECKS, ROWS, Target
from tests.engines.pond import PondEngine


@pytest.mark.parametrize("check", CHECKS, ids=lambda check: check.__name__)
def test_postgresql(server: Server, check: object) -> None:
    server.do("DROP TABLE IF EXISTS conformance")
    server.do("CREATE TABLE conformance (id integer, kind integer, note text)")
    server.do(
        f"INSERT INTO conformance SELECT n, n % 500, 'note ' || n FROM generate_series(1, {ROWS}) n"
    )
    server.do("CREATE INDEX conformance_id ON conformance (id)")
    server.do("ANALYZE conformance")
    try:
        check(Target(PostgresEngine(), server.url, "public"))  # type: ignore[operator]
    finally:
        server.do("DROP TABLE conformance")


@only_mariadb
@pytest.mark.parametrize("check", CHECKS, ids=lambda check: check.__name__)
def test_mariadb(maria: Maria, check: object) -> None:
    maria.do("DROP TABLE IF EXISTS conformance")
    maria.do("CREATE TABLE conformance (id integer, kind integer, note text)")
    maria.do(
        f"INSERT INTO conformance SELECT seq, seq % 500, concat('note ', seq) FROM seq_1_to_{ROWS}"
    )
    maria.do("CREATE INDEX conformance_id ON conformance (id)")
    maria.do("ANALYZE TABLE conformance")
    try:
        check(Target(MariadbEngine(), maria.url, ""))  # type: ignore[operator]
    finally:
        maria.do("DROP TABLE conformance")


# Nobody can install MySQL from a registry: where somebody has one, it keeps the contract, too.
if MYSQL_URL := os.environ.get("HUMBLE_TEST_MYSQL"):

    @pytest.mark.xdist_group("mysql")
    @pytest.mark.parametrize("check", CHECKS, ids=lambda check: check.__name__)
    def test_mysql(check: object) -> None:
        with MysqlEngine().connect(MYSQL_URL).admin() as hands:
            hands.do("DROP TABLE IF EXISTS conformance")
            hands.do("CREATE TABLE conformance (id integer, kind integer, note text)")
            values = ", ".join(f"({n}, {n % 500}, 'note {n}')" for n in range(1, ROWS + 1))
            hands.do(f"INSERT INTO conformance VALUES {values}")
            hands.do("CREATE INDEX conformance_id ON conformance (id)")
            hands.do("ANALYZE TABLE conformance")
            try:
                check(Target(MysqlEngine(), MYSQL_URL, ""))  # type: ignore[operator]
            finally:
                hands.do("DROP TABLE conformance")


def _fill(connection: sqlite3.Connection) -> None:
    connection.execute("CREATE TABLE conformance (id integer, kind integer, note text)")
    connection.executemany(
        "INSERT INTO conformance VALUES (?, ?, ?)",
        ((n, n % 500, f"note {n}") for n in range(1, ROWS + 1)),
    )
    connection.execute("CREATE INDEX conformance_id ON conformance (id)")


@pytest.mark.parametrize("mode", ["as it is", "analyzed", "with a log"])
@pytest.mark.parametrize("check", CHECKS, ids=lambda check: check.__name__)
def test_sqlite(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, check: object, mode: str) -> None:
    # Copies of other tests, whose mark is the same, are none of ours.
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
    path = tmp_path / "app.db"
    with closing(sqlite3.connect(path)) as connection:
        _fill(connection)
        if mode == "analyzed":
            connection.execute("ANALYZE")
        connection.commit()
        if mode == "with a log":
            connection.execute("PRAGMA journal_mode = WAL")
            connection.execute("UPDATE conformance SET note = note WHERE id = 1")
            connection.commit()
        # The application has the file open meanwhile.
        check(Target(SqliteEngine(), f"sqlite:///{path}", ""))  # type: ignore[operator]


@pytest.mark.parametrize("check", CHECKS, ids=lambda check: check.__name__)
def test_the_toy(tmp_path: Path, check: object) -> None:
    path = tmp_path / "pond.db"
    with closing(sqlite3.connect(path)) as connection:
        _fill(connection)
        connection.commit()
    check(Target(PondEngine(), f"pond://{path}", "main"))  # type: ignore[operator, arg-type]
