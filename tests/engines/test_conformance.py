"""Every engine passes the same checks: PostgreSQL in each version here, and the toy."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from humble_ledger.engines.postgresql.engine import PostgresEngine
from tests.conftest import Server
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


@pytest.mark.parametrize("check", CHECKS, ids=lambda check: check.__name__)
def test_the_toy(tmp_path: Path, check: object) -> None:
    path = tmp_path / "pond.db"
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("CREATE TABLE conformance (id integer, kind integer, note text)")
        connection.executemany(
            "INSERT INTO conformance VALUES (?, ?, ?)",
            ((n, n % 500, f"note {n}") for n in range(1, ROWS + 1)),
        )
        connection.execute("CREATE INDEX conformance_id ON conformance (id)")
        connection.commit()
    check(Target(PondEngine(), f"pond://{path}", "main"))  # type: ignore[operator, arg-type]
