"""Each kind of source through the program: what it brings, and that all of them agree."""

from __future__ import annotations

import re
import signal
import sqlite3
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import psycopg
import pytest

from humble_ledger.core.statements.fingerprint import normalise
from humble_ledger.demo.workload import load_workload, send_workload
from tests.conftest import Server, only_newest
from tests.program import PATIENCE_S, SENSOR, Program
from tests.record_plans import filled

HEAVY, HEAVIEST, NEARLY = 5, 3, 8


def first(program: Program, source: str, most: int) -> set[str]:
    rows = program.json("queries", "--source", source, "--top", str(most))["queries"]
    return {row["id"] for row in rows}


def agree(program: Program, source: str) -> bool:
    """Whether a source's first five are the log's, but for those of about the same weight."""
    five = first(program, source, HEAVY)
    return first(program, "log", HEAVIEST) <= five <= first(program, "log", NEARLY)


def found_again(program: Program, source: str) -> bool:
    """Whether the log's heaviest, but for one, are among the heavy ones of other runs, later.

    A machine that was busy then and is calm now moves them, so more is not promised.
    """
    return len(first(program, "log", HEAVIEST) - first(program, source, NEARLY)) <= 1


def script_of_workload(url: str) -> str:
    """Everything the applications send, as a file that a client would run."""
    lines = ["\\timing on"]
    for each in load_workload():
        for values in each.sendings():
            lines.append(filled(url, each.sql, values) + ";")
    return "\n".join(lines)


@only_newest
def test_all_sources_give_the_same_heavy_queries(begun: Program, server: Server) -> None:
    begun.ok("capture", "server")
    assert agree(begun, "server")
    (begun.folder / "day.sql").write_text(script_of_workload(server.url))
    begun.ok("capture", "script", "day.sql", "--measure")
    assert found_again(begun, "script")
    live = begun.start("capture", "live", "--every", "20", "--json")
    looking = (
        "SELECT 1 FROM pg_stat_activity WHERE application_name LIKE 'humble-ledger%'"
        " AND state_change > backend_start + interval '0.3 s'"
    )
    while live.poll() is None and not server.fetch(looking):
        time.sleep(0.1)
    send_workload(server.url, load_workload())
    live.send_signal(signal.SIGINT)
    out, err = live.communicate(timeout=PATIENCE_S)
    assert live.returncode == 0, err
    assert '"kind":"live"' in out
    assert found_again(begun, "live")
    note = " ".join(begun.ok("queries").out.splitlines()[-2:])
    assert "estimated from samples" in note
    assert "Also captured: --source log or --source server or --source script" in note


def test_a_command_is_followed_by_the_servers_own_count(begun: Program, server: Server) -> None:
    with psycopg.connect(server.url, autocommit=True) as other, other.cursor() as cursor:
        number = str(other.info.backend_pid)
        rows = "SELECT repeat('x', 1000) FROM generate_series(1, 5000000)"
        # It is held up: nobody takes more than the first of its rows for now.
        with cursor.copy(f"COPY ({rows}) TO STDOUT") as copy:
            copy.read()
            found = begun.json(
                "capture", "live", "--follow", number, "--every", "200", "--for", "1s"
            )
            assert rows in found["statement"] and not found["ended"] and found["plan"] is None
            told = found["looks"][-1]["done"]
            assert any(each["what"].endswith("rows copied") and each["done"] > 0 for each in told)
            shown = begun.ok("capture", "live", "--follow", number, "--for", "1s").out
            assert "rows copied" in shown
            other.cancel()
            with pytest.raises(psycopg.errors.QueryCanceled):
                while copy.read():
                    pass
    assert "runs nothing now" in begun.fails(2, "capture", "live", "--follow", number)


def counted_by_hand(log: Path) -> tuple[int, float]:
    """Runs and milliseconds of the applications, counted with one plain pattern."""
    found = re.findall(
        r"@skerry/(?!humble)\S+ LOG:  duration: ([\d.]+) ms  (?:statement|execute [^:]*): "
        r"\s*(?:SELECT|WITH)\b",
        log.read_text(),
    )
    return len(found), sum(map(float, found))


def test_totals_agree_with_an_independent_count_and_with_the_statistics(
    begun: Program, server: Server
) -> None:
    rows = {row["fingerprint"]: row for row in begun.json("queries", "--source", "log")["queries"]}
    sent = {normalise(w.sql).fingerprint: len(list(w.sendings())) for w in load_workload()}
    assert {print_: rows[print_]["calls"] for print_ in sent} == sent
    calls, total = counted_by_hand(server.log)
    assert sum(row["calls"] for row in rows.values()) == calls
    assert sum(row["total_ms"] for row in rows.values()) == pytest.approx(total)

    # A look at the statistics between which nothing but this runs.
    begun.ok("capture", "server")
    with psycopg.connect(server.url, autocommit=True, application_name="count") as connection:
        for n in range(30):
            connection.execute("SELECT count(*) AS thirty FROM alert WHERE alert_id < %s", (n,))
    begun.ok("capture", "server")
    (row,) = [
        r
        for r in begun.json("queries", "--source", "server", "--by", "growth")["queries"]
        if "AS thirty" in r["text"]
    ]
    assert row["calls"] == 30
    assert row["work"]["rows"] == 30
    last = begun.json("queries", "--source", "server", "--between", "k3", "k3")["queries"]
    ours = [r for r in last if "pg_class" in r["text"] or "pg_stat" in r["text"]]
    assert ours == [], "what we ask the catalogue is not the users' work"


def test_the_first_look_is_everything_and_the_next_one_the_rest(
    begun: Program, server: Server
) -> None:
    first = begun.json("capture", "server")
    assert first["kept_runs"] >= 300
    assert "first look" in first["notes"][0]
    again = begun.json("capture", "server")
    assert again["kept_runs"] == 0
    server.do("SELECT pg_stat_statements_reset()")
    reset = begun.json("capture", "server")
    assert any("reset at" in note for note in reset["notes"])


SCRIPT = """\
-- a report
\\set region 3
SELECT count(*) FROM alert WHERE status = 'open';
SELEC 1;
SELECT r.name,
       nothing FROM region r;
CREATE TEMP TABLE x AS SELECT 1;
SELECT * FROM buoy WHERE region_id = :region;
SELECT $$a;b$$, /* ; */ count(*) FROM sensor;
DELETE FROM visit;
SELECT value FROM reading WHERE sensor_id = $1;
COPY region FROM stdin;
1\ta;b\tc
\\.
SELECT 7
"""


def test_a_script_is_checked_and_explained_and_nothing_is_run(
    begun: Program, server: Server
) -> None:
    (begun.folder / "s.sql").write_text(SCRIPT)
    visits = server.fetch("SELECT count(*) FROM visit")
    found = begun.json("capture", "script", "s.sql")
    rows = {row["line"]: row for row in found["statements"]}
    assert set(rows) == {3, 4, 6, 7, 8, 9, 10, 11, 12, 15}
    assert rows[3]["cost_estimated"] > 100 and rows[3]["duration_ms"] is None
    assert begun.json("show", rows[3]["plan"])["query"] == rows[3]["query"]
    assert "SELEC" in rows[4]["fault"]
    assert (rows[6]["column"], rows[6]["fault"]) == (8, 'column "nothing" does not exist')
    assert rows[7]["note"] == "CREATE has no plan"
    assert rows[8]["note"] == "variables of the client: :region"
    assert rows[9]["query"] and rows[10]["query"] and rows[11]["query"] and rows[15]["query"]
    assert found["capture"]["passed_over"]["data of COPY FROM STDIN"] == 1
    measured = begun.json("capture", "script", "s.sql", "--measure")["statements"]
    by_line = {row["line"]: row for row in measured}
    assert by_line[3]["duration_ms"] > 0
    assert by_line[10]["note"] == "not run: it changes or locks rows"
    assert "no values" in by_line[11]["note"]
    assert server.fetch("SELECT count(*) FROM visit") == visits


def test_a_script_from_standard_input_and_one_that_is_not_there(begun: Program) -> None:
    assert "SELECT 7" in begun.ok("capture", "script", "-", stdin="SELECT 7;").out
    assert "nowhere.sql" in begun.fails(4, "capture", "script", "nowhere.sql")
    assert "no statement" in begun.fails(4, "capture", "script", "-", stdin="-- nothing\n")


@contextmanager
def rivals(url: str) -> Iterator[None]:
    """A transaction that changed a row and stays open, and two that want the same row."""
    change = "UPDATE buoy SET name = name WHERE buoy_id = 7"
    connections = [psycopg.connect(url, application_name=f"desk {n}") for n in range(3)]
    connections[0].execute(change)

    def wait(connection: psycopg.Connection[Any]) -> None:
        connection.execute(change)
        connection.rollback()

    threads = [threading.Thread(target=wait, args=(c,)) for c in connections[1:]]
    for thread in threads:
        thread.start()
        time.sleep(0.3)
    try:
        yield
    finally:
        connections[0].rollback()
        for thread in threads:
            thread.join()
        for connection in connections:
            connection.close()


def test_live_shows_who_blocks_whom_and_keeps_the_waits(begun: Program, server: Server) -> None:
    with rivals(server.url):
        found = begun.json("capture", "live", "--for", "2s", "--every", "50")
        shown = begun.ok("capture", "live", "--for", "0.5s").out
    (root,) = found["blockers"]
    assert root["state"] == "idle in transaction"
    assert root["statement"].startswith("UPDATE buoy")
    first = root["blocks"][0]
    assert first["waited_ms"] > 1500 and first["wait_event"] == "transactionid"
    assert found["looks"] > 10
    query = found["statements"][0]["query"]
    told = {s["name"]: s for s in begun.json("diagnose", query)["symptoms"]}
    assert told["blocked-by-others"]["cost_ms"] > 1500
    assert f"{query} held a lock" in told["blocked-by-others"]["cause"]["detail"]
    assert "left open" in told["blocked-by-others"]["cause"]["detail"]
    waits = begun.json("show", query)["waits"]
    assert {wait["kind"] for wait in waits} == {"Lock"}
    assert "another transaction to end" in begun.ok("show", query).out
    assert "who blocks whom" in shown and "└ process" in shown


def test_live_of_a_quiet_server(begun: Program) -> None:
    assert "No statement was running" in begun.ok("capture", "live", "--for", "0.3s").out
    assert "no span of time" in begun.fails(2, "capture", "live", "--for", "soon")


def test_the_loop_and_the_slow_runs_of_a_query(begun: Program) -> None:
    loop = begun.query_with("FROM sensor WHERE sensor_id = $1")
    found = begun.json("show", loop)
    (symptom,) = [begun.json("show", s)["symptoms"][0] for s in found["symptoms"]]
    assert symptom["name"] == "n-plus-one-queries"
    assert symptom["evidence"]["largest_burst"] == 300
    assert symptom["plan"] is None and symptom["capture"] == "k1"
    assert "n-plus-one-queries" in begun.ok("diagnose", loop).out
    sensor = begun.json("show", begun.query_with(SENSOR))
    assert sensor["runs"][0]["duration_ms"] >= sensor["runs"][-1]["duration_ms"]
    assert set(sensor["runs"][0]["values"]) == {"sensor_id", "taken_at"}


def test_growth_compares_two_captures(begun: Program, server: Server) -> None:
    assert "two captures" in begun.fails(2, "queries", "--by", "growth")
    log = begun.folder / "later.log"
    lines = server.log.read_text()
    log.write_text(lines.replace("2026-", "2027-") + lines.replace("2026-", "2028-"))
    begun.ok("capture", "log", "later.log")
    found = begun.json("queries", "--by", "growth")
    assert found["compared"] == ["k1", "k2"]
    for row in found["queries"]:
        assert row["growth_ms"] == pytest.approx(row["total_ms"] / 2, abs=0.01)
    assert "growth ms" in begun.ok("queries", "--by", "growth").out


@pytest.mark.parametrize("by", ["rows", "reads", "cost"])
def test_what_a_source_does_not_tell_is_unknown(begun: Program, by: str) -> None:
    rows = begun.json("queries", "--by", by)["queries"]
    assert len(rows) > 15
    assert rows[0]["rows_mean"] is None
    begun.ok("capture", "server")
    begun.ok("plan", rows[0]["id"])
    ranked = begun.json("queries", "--by", by, "--source", "server")["queries"]
    figure = {
        "rows": lambda r: r["work"]["rows"],
        "reads": lambda r: r["work"]["read_pages"],
        "cost": lambda r: (r["cost_estimated"] or 0) * r["calls"],
    }[by]
    figures = [figure(row) for row in ranked]
    assert figures == sorted(figures, reverse=True)


@only_newest
def test_a_masked_folder_never_has_a_literal_whatever_is_done_in_it(
    humble: Program, server: Server
) -> None:
    humble.ok("init", server.url, "--role", "scratch", "--mask")
    humble.ok("capture", "log", str(server.log))
    query = humble.query_with(SENSOR)
    plan = humble.json("plan", query)
    assert not plan["measured"] and "$1" in str(plan["root"])
    assert "no values" in humble.fails(2, "plan", query, "--measure")
    humble.ok("diagnose", query)
    humble.ok("propose", query)
    secret = "SELECT * FROM alert WHERE message = 'seal-4711' AND alert_id > 918273"
    humble.ok("plan", secret, "--measure")
    humble.ok("diagnose", secret)
    (humble.folder / "s.sql").write_text(secret)
    humble.ok("capture", "script", "s.sql", "--measure")
    humble.ok("capture", "live", "--for", "0.2s")
    kept_bytes = b"".join(path.read_bytes() for path in humble.folder.glob("humble.ledger*"))
    assert b"seal-4711" not in kept_bytes and b"918273" not in kept_bytes
    assert b"message = $1" in kept_bytes


BROKEN_OFF_MB = 60
HEAD = "2026-03-01 10:{m:02d}:{s:02d}.500 UTC [{pid}] me@skerry/app LOG:  "


def _big_log(path: Path, megabytes: int) -> int:
    """A log of so many MB; the number of its statements."""
    n = 0
    with path.open("w") as file:
        while file.tell() < megabytes * 1e6:
            block = []
            for _ in range(2000):
                head = HEAD.format(m=n // 60_000 % 60, s=n // 1000 % 60, pid=n % 90)
                block.append(
                    f"{head}duration: {n % 977}.5 ms  statement: SELECT a FROM t{n % 7}\n"
                    f"\tWHERE b = {n} AND c = 'x{n}'\n"
                )
                n += 1
            file.write("".join(block))
    return n


def kept(folder: Path) -> int:
    with sqlite3.connect(folder / "humble.ledger", timeout=20) as connection:
        return int(connection.execute("SELECT coalesce(sum(calls), 0) FROM periods").fetchone()[0])


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGINT], ids=["kill -9", "Ctrl-C"])
def test_a_capture_that_is_broken_off_goes_on_where_it_stopped(
    humble: Program, how: signal.Signals
) -> None:
    from humble_ledger.ledger.repository import Ledger  # noqa: PLC0415

    Ledger(humble.folder / "humble.ledger", create=True).close()
    whole = _big_log(humble.folder / "big.log", BROKEN_OFF_MB)
    capture = humble.start("capture", "log", "big.log")
    give_up = time.monotonic() + PATIENCE_S
    while not kept(humble.folder):
        assert time.monotonic() < give_up and capture.poll() is None
        time.sleep(0.02)
    capture.send_signal(how)
    capture.communicate(timeout=PATIENCE_S)
    assert capture.returncode == (130 if how is signal.SIGINT else -9)
    first = kept(humble.folder)
    assert 0 < first < whole
    again = humble.json("capture", "log", "big.log")
    assert first + again["kept_runs"] == whole == kept(humble.folder)
    assert humble.json("capture", "log", "big.log")["kept_runs"] == 0
    calls = sorted(row["calls"] for row in humble.json("queries")["queries"])
    assert calls == sorted(len(range(n, whole, 7)) for n in range(7))
