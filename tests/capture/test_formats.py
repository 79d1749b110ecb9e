"""The same statements, written by a real server in each of its log formats."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path

import psycopg
import pytest

from humble_ledger.capture.assembly import Assembler, Tally
from humble_ledger.capture.files import LogReader
from humble_ledger.capture.logs import read_log
from humble_ledger.core.statements.wording import refill
from humble_ledger.core.workload.gathering import Gathering
from humble_ledger.engines.postgresql.launcher import Cluster
from humble_ledger.engines.postgresql.logs.formats import LOGS
from tests.conftest import FOUND, NEEDED_MAJOR
from tests.program import PATIENCE_S

SETTINGS = {
    "logging_collector": "on",
    "log_destination": "stderr,csvlog,jsonlog",
    "log_directory": "log",
    "log_filename": "server.log",
    "log_min_duration_statement": "0",
    "log_line_prefix": "%m [%p] %q%u@%d/%a ",
    "log_timezone": "UTC",
    "lc_messages": "C",
}
STATEMENTS = [
    ("SELECT %s::text", ("it's \"quoted\", a\nline, $1 = 'x'",)),
    ("SELECT %s::int, %s::text", (7, None)),
    ('SELECT 1 AS "a,b"\n\t-- é\n', ()),
    ("SELECT relname FROM pg_class WHERE relname = %s", ("pg_class",)),
]


@pytest.fixture(scope="module")
def logs() -> Iterator[Path]:
    with Cluster(FOUND[NEEDED_MAJOR], SETTINGS) as cluster:
        url = cluster.url("postgres")
        with psycopg.connect(url, autocommit=True, application_name="my app") as connection:
            for sql, values in STATEMENTS:
                connection.execute(sql.encode(), values or None)
        folder = cluster.data / "log"
        give_up = time.monotonic() + PATIENCE_S
        while "pg_class" not in _text(folder / "server.json") and time.monotonic() < give_up:
            time.sleep(0.05)
        yield folder


def _text(path: Path) -> str:
    return path.read_text() if path.exists() else ""


def _read(path: Path) -> list[tuple[object, ...]]:
    gathering, tally = Gathering(), Tally()
    assembler = Assembler(gathering, tally, lambda _: None, False)
    for block in read_log(LogReader(path), LOGS, SETTINGS["log_line_prefix"]):
        assembler.take(block.rows)
    assert tally.first_unreadable == ""
    return [
        (refill(r.wording, r.literals), r.values, r.duration_ms, r.started_s, r.client, r.session)
        for r in gathering.harvest().runs
    ]


def test_all_formats_tell_the_same(logs: Path) -> None:
    plain = _read(logs / "server.log")
    assert _read(logs / "server.csv") == plain
    assert _read(logs / "server.json") == plain
    mine = [found for found in plain if found[4][2] == "my app"]  # type: ignore[index]
    assert len(mine) == len(STATEMENTS)
    assert [found[1] for found in mine] == [
        tuple(None if v is None else str(v) for v in values) for _, values in STATEMENTS
    ]
