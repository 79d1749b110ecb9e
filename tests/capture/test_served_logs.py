"""Logs that a server hands out through its connection: PostgreSQL's files, MariaDB's table."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager

import psycopg
import pytest

from humble_ledger.engines.postgresql.launcher import Cluster
from tests.conftest import FOUND, MAJORS, Maria, only_mariadb
from tests.program import PATIENCE_S, Program

FROM_SERVER = ("capture", "log", "--from-server")
COLLECTING = {
    "logging_collector": "on",
    "log_directory": "messages",
    "log_min_duration_statement": "0",
    "log_line_prefix": "%m [%p] %q%u@%d/%a ",
    "lc_messages": "C",
}


def calls(humble: Program, part: str) -> int:
    queries = humble.json("queries", "--top", "50")["queries"]
    return sum(each["calls"] for each in queries if part in each["statement"])


def captured(humble: Program, part: str, count: int) -> int:
    """The calls captured from the server, when its collector had time to write them all."""
    give_up = time.monotonic() + PATIENCE_S
    while True:
        humble.ok(*FROM_SERVER)
        found = calls(humble, part)
        if found >= count or time.monotonic() > give_up:
            return found
        time.sleep(0.2)


@contextmanager
def collecting(major: int, form: str) -> Iterator[str]:
    """A server that collects its messages in one form; its URL."""
    with Cluster(FOUND[major], {**COLLECTING, "log_destination": form}) as cluster:
        yield cluster.url("postgres")


@pytest.mark.server
@pytest.mark.parametrize(
    ("major", "form"),
    [(18, "stderr"), (18, "jsonlog,stderr"), (15, "csvlog")],
    ids=str,
)
def test_the_servers_own_files_are_read_on_from_where_they_were_left(
    humble: Program, major: int, form: str
) -> None:
    if major not in FOUND:
        pytest.fail(f"PostgreSQL {major} of {MAJORS} is not here")
    with (
        collecting(major, form) as url,
        psycopg.connect(url, autocommit=True) as connection,
    ):
        connection.execute("CREATE TABLE seal (id int)")
        for number in range(7):
            connection.execute("SELECT * FROM seal WHERE id = %s", (number,))
        humble.ok("init", url, "--role", "scratch")
        assert "--from-server" in humble.ok("preflight").out
        assert captured(humble, "FROM seal", 7) == 7
        connection.execute("SELECT pg_rotate_logfile()")
        for number in range(5):
            connection.execute("SELECT * FROM seal WHERE id = %s", (number,))
        assert captured(humble, "FROM seal", 12) == 12
        # What we asked for it is nobody's work.
        assert calls(humble, "pg_read_binary_file") == calls(humble, "pg_ls_logdir") == 0

        connection.execute("CREATE ROLE keeper LOGIN")
        refused = humble.run(*FROM_SERVER, "--target", url.replace("humble@", "keeper@"))
        assert refused.code == 4 and "GRANT pg_monitor" in refused.err
        connection.execute("GRANT pg_monitor TO keeper")
        refused = humble.run(*FROM_SERVER, "--target", url.replace("humble@", "keeper@"))
        assert refused.code == 4 and "GRANT EXECUTE" in refused.err


@pytest.mark.server
def test_a_server_that_collects_nothing_says_where_its_messages_go(humble: Program) -> None:
    with Cluster(FOUND[18]) as cluster:
        humble.ok("init", cluster.url("postgres"), "--role", "scratch")
        refused = humble.run(*FROM_SERVER)
    assert refused.code == 2 and "logging_collector" in refused.err
    assert "--from-server" in humble.run("capture", "log").err


@only_mariadb
def test_the_slow_log_as_a_table_is_read_like_its_file(humble: Program, maria: Maria) -> None:
    humble.ok("init", maria.url, "--role", "scratch")
    refused = humble.run(*FROM_SERVER)
    assert refused.code == 2 and "log_output" in refused.err
    maria.do("SET GLOBAL log_output = 'TABLE'")
    try:
        maria.do("TRUNCATE mysql.slow_log")
        sent = ["SELECT 'a\n# User@Host: x[x] @ y []\n# Query_time: 1' AS seal", "SELECT 2 AS seal"]
        for sql in sent:
            logged(maria, sql)
        humble.ok(*FROM_SERVER)
        assert calls(humble, "AS seal") == 2
        logged(maria, sent[0])
        humble.ok(*FROM_SERVER)
        assert calls(humble, "AS seal") == 3
        # Emptied, and filled with as much again: another log, and not the rest of the first.
        maria.do("TRUNCATE mysql.slow_log")
        for sql in sent * 2:
            logged(maria, sql)
        humble.ok(*FROM_SERVER)
        assert calls(humble, "AS seal") == 7
        assert "mysql.slow_log" in humble.ok("preflight").out
    finally:
        maria.do("SET GLOBAL log_output = 'FILE'")


def logged(maria: Maria, sql: str) -> None:
    """Send a statement that the slow log takes."""
    maria.fetch(sql, threshold_s=0)
