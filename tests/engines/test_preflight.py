from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager

import psycopg
import pytest

from humble_ledger.core.schema.readiness import Readiness, SourceState
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.postgresql.launcher import Cluster
from humble_ledger.engines.postgresql.session import PostgresSession
from tests.conftest import FOUND, Server
from tests.program import Program


@contextmanager
def cluster(major: int, settings: Mapping[str, str]) -> Iterator[Cluster]:
    with Cluster(FOUND[major], settings) as running:
        yield running


def seen(url: str) -> dict[str, Readiness]:
    session = PostgresSession(url, Limits())
    found = {each.source: each for each in session.preflight()}
    session.close()
    return found


@pytest.mark.parametrize("major", sorted(FOUND))
def test_a_server_as_it_comes_and_every_statement_runs_as_printed(major: int) -> None:
    with cluster(major, {"log_min_duration_statement": "-1"}) as server:
        url = server.url("postgres")
        found = seen(url)
        states = {source: each.state for source, each in found.items()}
        assert states == {
            "slow log": SourceState.OFF,
            "statement statistics": SourceState.OFF,
            "running statements": SourceState.ON,
            "plans in the log": SourceState.OFF,
            "table statistics": SourceState.ON,
            "trials": SourceState.ON,
        }
        assert found["statement statistics"].restart and not found["slow log"].restart
        with psycopg.connect(url, autocommit=True) as connection:
            for each in found.values():
                for statement in each.switch_on:
                    if "after the restart" not in statement:
                        connection.execute(statement.encode())
        after = seen(url)
        assert after["slow log"].state is SourceState.ON
        assert "100ms" in after["slow log"].tells
        assert any("faster than 100ms" in words for words in after["slow log"].hides)
        assert after["plans in the log"].state is SourceState.PARTLY
        written = (server.data / "postgresql.auto.conf").read_text()
        assert "pg_stat_statements" in written


def test_statement_statistics_after_the_restart() -> None:
    major = 15 if 15 in FOUND else 18
    with cluster(major, {"shared_preload_libraries": "auto_explain"}) as server:
        found = seen(server.url("postgres"))["statement statistics"]
        assert "'auto_explain', 'pg_stat_statements'" in found.switch_on[0]
    if not (FOUND[major].prefix / "lib" / "pg_stat_statements.so").exists():
        return
    with cluster(major, {"shared_preload_libraries": "pg_stat_statements"}) as server:
        url = server.url("postgres")
        (create,) = seen(url)["statement statistics"].switch_on
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute(create.encode())
        assert seen(url)["statement statistics"].state is SourceState.ON


def test_a_user_without_rights_is_told_what_is_missing(server: Server) -> None:
    server.do('DROP ROLE IF EXISTS "Late Watch"')
    server.do('CREATE ROLE "Late Watch" LOGIN')
    found = seen(server.url.replace("humble@", "Late%20Watch@"))
    assert found["running statements"].state is SourceState.CLOSED
    assert found["trials"].state is SourceState.CLOSED
    assert found["table statistics"].hides == ("the statistics of 7 tables we may not read",)
    (grant,) = found["running statements"].switch_on
    server.do(grant)
    after = seen(server.url.replace("humble@", "Late%20Watch@"))
    assert after["running statements"].state is SourceState.ON
    server.do('DROP ROLE "Late Watch"')


def test_the_command(begun: Program) -> None:
    sources = begun.json("preflight")["sources"]
    assert sources[0]["source"] == "slow log"
    assert sources[0]["state"] == "on"
    assert "statement statistics: on" in begun.ok("preflight").out
