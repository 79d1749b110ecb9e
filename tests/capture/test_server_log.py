"""Plans and incidents as real servers log them, and keeping literals out."""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import psycopg
import pytest

from humble_ledger.engines.postgresql.launcher import Cluster
from tests.conftest import FOUND, MAJORS
from tests.program import PATIENCE_S, Program

SETTINGS = {
    "log_min_duration_statement": "0",
    "log_line_prefix": "%m [%p] %q%u@%d/%a ",
    "log_timezone": "UTC",
    "lc_messages": "C",
    "log_temp_files": "0",
    "log_lock_waits": "on",
    "log_checkpoints": "on",
    "deadlock_timeout": "200ms",
    "work_mem": "64kB",
    "session_preload_libraries": "auto_explain",
    "auto_explain.log_min_duration": "0",
    "auto_explain.log_analyze": "on",
    "auto_explain.log_buffers": "on",
}
SECRET = "seal-4711"
SPILL = "SELECT n FROM generate_series(1, 20000) AS n ORDER BY -n"


def _connect(url: str) -> psycopg.Connection[Any]:
    return psycopg.connect(url, autocommit=True, application_name="app")


def _logged(cluster: Cluster, words: str) -> None:
    """Wait until the server has written it: however long that takes on this machine."""
    give_up = time.monotonic() + PATIENCE_S
    while words not in cluster.log.read_text():
        assert time.monotonic() < give_up, words
        time.sleep(0.05)


def _deadlock(url: str, change: str) -> None:
    """Two sessions that each hold the row that the other one wants."""
    both_hold_theirs = threading.Barrier(2)

    def work(first: int, then: int) -> None:
        with _connect(url) as connection, contextlib.suppress(psycopg.errors.DeadlockDetected):
            connection.execute("BEGIN")
            connection.execute(change.format(first).encode())
            both_hold_theirs.wait(60)
            connection.execute(change.format(then).encode())

    threads = [threading.Thread(target=work, args=rows) for rows in ((1, 2), (2, 1))]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()


def _wait_for_a_lock(cluster: Cluster, url: str, change: str) -> None:
    """One session waits for another one until the log has told so."""

    def wait() -> None:
        with _connect(url) as connection:
            connection.execute(change.encode())

    waiter = threading.Thread(target=wait)
    with _connect(url) as holder:
        holder.execute("BEGIN")
        holder.execute(change.encode())
        waited = cluster.log.read_text().count("still waiting for")
        waiter.start()
        give_up = time.monotonic() + PATIENCE_S
        while cluster.log.read_text().count("still waiting for") == waited:
            assert time.monotonic() < give_up
            time.sleep(0.05)
        holder.execute("ROLLBACK")
    waiter.join()


def _trouble(cluster: Cluster) -> None:
    """A spill, a wait, a deadlock, a cancelled statement, a checkpoint, some plain reads."""
    url = cluster.url("postgres")
    with _connect(url) as connection:
        connection.execute("CREATE TABLE seal (id int PRIMARY KEY, name text)")
        connection.execute("INSERT INTO seal SELECT n, 'seal-' || n FROM generate_series(1,500) n")
        connection.execute(SPILL.encode())
        for name in (SECRET, "seal-7"):
            connection.execute("SELECT id FROM seal WHERE name = %s", (name,))
            connection.execute(f"SELECT id FROM seal WHERE name || '' = '{name}'".encode())
        with contextlib.suppress(psycopg.errors.QueryCanceled):
            connection.execute("SET statement_timeout = '500ms'")
            connection.execute(f"SELECT pg_sleep(5), '{SECRET}'".encode())
        connection.execute("SET statement_timeout = 0")
        change = "UPDATE seal SET name = name WHERE id = {}"
        _deadlock(url, change)
        _wait_for_a_lock(cluster, url, change.format(3))
        connection.execute("CHECKPOINT")
    _logged(cluster, "checkpoint complete")


@pytest.fixture(
    scope="module",
    params=[
        pytest.param(
            (major, form),
            id=f"pg{major}-{form}",
            # All tests of one log in one worker, so that its server starts once.
            marks=pytest.mark.xdist_group(f"log{major}{form}"),
        )
        for major in MAJORS
        if major in FOUND
        for form in ("json", "text")
    ],
)
def log(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    major, form = request.param
    settings = {**SETTINGS, "auto_explain.log_format": form}
    with Cluster(FOUND[major], settings) as cluster:
        _trouble(cluster)
        copy = tmp_path_factory.mktemp("log") / "trouble.log"
        copy.write_bytes(cluster.log.read_bytes())
    yield copy


@pytest.fixture
def with_ledger(humble: Program) -> Program:
    from humble_ledger.ledger.repository import Ledger  # noqa: PLC0415

    Ledger(humble.folder / "humble.ledger", create=True).close()
    return humble


def test_plans_and_incidents_of_a_log_belong_to_their_queries(
    with_ledger: Program, log: Path
) -> None:
    humble = with_ledger
    done = humble.json("capture", "log", str(log))
    assert done["plans"] > 5
    assert done["passed_over"].get("plan that cannot be read", 0) == 0
    found = done["incidents"]
    assert found["temporary-file"] >= 1 and found["checkpoint"] >= 1
    assert found["deadlock"] == 1 and found["cancelled"] == 1
    # On a slow machine another session may have to wait, too.
    assert found["lock-wait"] >= 1 and found["lock-waited"] >= 1
    runs = {row["text"]: row["calls"] for row in humble.json("queries")["queries"]}
    assert runs["SELECT id FROM seal WHERE name = $1"] == 2, "with its plan it is still one run"

    spill = humble.json("show", humble.query_with("generate_series($1, $2)"))
    assert {i["name"] for i in spill["incidents"]} == {"temporary-file"}
    assert spill["incidents"][0]["amount"] > 100_000
    plan = humble.json("show", spill["plans"][0])
    assert plan["measured"] and plan["root"]["operation"] == "sort"
    assert plan["root"]["rows_seen"] == 20_000
    # Ending takes its time, too, and a busy machine takes longer for it.
    assert 0 < plan["root"]["time_ms"]["total"] <= 1.05 * plan["execution_ms"]

    wait = humble.json("show", humble.query_with("UPDATE seal"))
    names = {i["name"] for i in wait["incidents"]}
    assert names == {"lock-wait", "lock-waited", "deadlock"}
    assert max(i["amount"] or 0 for i in wait["incidents"]) >= 200
    shown = " ".join(humble.ok("show", humble.query_with("UPDATE seal")).out.split())
    assert "deadlock" in shown and "two sessions waited for each other" in shown


def _everything_in(folder: Path) -> bytes:
    return b"".join(path.read_bytes() for path in folder.glob("humble.ledger*"))


def test_with_mask_no_literal_reaches_ledger_or_output(with_ledger: Program, log: Path) -> None:
    humble = with_ledger
    assert SECRET.encode() in log.read_bytes()
    done = humble.ok("capture", "log", str(log), "--mask")
    rows = humble.json("queries")["queries"]
    said = done.out + done.err + humble.ok("history").out
    for row in [r for r in rows if "seal" in r["text"]][:4]:
        said += humble.ok("show", row["id"]).out
    for plan in ("p1", "p2", "p3"):
        said += humble.ok("show", plan).out + humble.ok("show", plan, "--json").out
    assert len(rows) >= 5
    assert SECRET not in said
    assert SECRET.encode() not in _everything_in(humble.folder)
    assert "seal-7" not in said and b"seal-7'" not in _everything_in(humble.folder)
    again = humble.ok("capture", "log", str(log), "--again")
    assert again.code == 0
    assert SECRET.encode() in _everything_in(humble.folder), "without --mask values are kept"
