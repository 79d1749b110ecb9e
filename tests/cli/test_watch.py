"""The watch: what changes under load is told once, and a kept change that does harm is undone."""

from __future__ import annotations

import json
import shutil
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import psycopg

from tests.conftest import Server, only_newest
from tests.program import Program

SQL = "SELECT message FROM alert WHERE alert_id = 4711"


@contextmanager
def _load(url: str) -> Iterator[None]:
    """Somebody who connects, asks and leaves, again and again."""
    over = threading.Event()

    def ask() -> None:
        while not over.is_set():
            with psycopg.connect(url, autocommit=True) as connection:
                for _ in range(20):
                    connection.execute(SQL.encode())

    threads = [threading.Thread(target=ask) for _ in range(2)]
    for thread in threads:
        thread.start()
    try:
        yield
    finally:
        over.set()
        for thread in threads:
            thread.join()


def _events(text: str) -> list[dict[str, Any]]:
    return [json.loads(line) for line in text.splitlines()]


def _query(program: Program) -> str:
    """The id of the statement under load."""
    program.ok("plan", SQL)
    return str(program.json("history")["events"][-1]["words"].split()[-1])


@only_newest
def test_a_plan_that_turns_under_load_is_told_within_two_looks_and_once(
    humble: Program, server: Server
) -> None:
    humble.ok("init", server.url, "--role", "scratch")
    query = _query(humble)
    with _load(server.url):
        humble.ok("capture", "server")
        try:
            server.do("ALTER ROLE humble SET enable_indexscan = off")
            server.do("ALTER ROLE humble SET enable_bitmapscan = off")
            done = humble.run(
                "watch", "--every", "1s", "--for", "1s", "--json", "--on-event", "cat >> said.jsonl"
            )
            again = humble.run("watch", "--every", "1s", "--for", "1s", "--json")
        finally:
            server.do("ALTER ROLE humble RESET enable_indexscan")
            server.do("ALTER ROLE humble RESET enable_bitmapscan")
        back = humble.run("watch", "--every", "1s", "--for", "1s", "--json")
    events = _events(done.out)
    (flip,) = [e for e in events if e["finding"] == "flipped" and e["subject"] == query]
    assert "enable_indexscan" in flip["words"] and flip["next"].startswith("humble compare p")
    assert _events((humble.folder / "said.jsonl").read_text().replace("}{", "}\n{")) == events
    assert not [e for e in _events(again.out) if e["finding"] == "flipped"]  # said once
    assert any(e["event"] == "gone" and query in e["words"] for e in _events(back.out))


@only_newest
def test_a_kept_change_that_does_harm_is_taken_back_and_the_rate_recovers(
    humble: Program, server: Server
) -> None:
    humble.ok("init", server.url, "--role", "scratch")
    query = _query(humble)
    harm = ("--set", "enable_indexscan=off", "--set", "enable_bitmapscan=off")
    trial = humble.json("trial", query, *harm, "--pairs", "6")
    assert trial["verdict"] == "slower"
    with _load(server.url):
        for _ in range(9):
            humble.ok("capture", "server")
        humble.ok("settle", trial["id"], "keep", "--reason", "to see it go", "--apply")
        try:
            done = humble.run(
                "watch", "--every", "1s", "--for", "300s", "--settle", trial["id"], "--json",
                "--to", "watch.svg",
            )  # fmt: skip
            roles = server.fetch("SELECT setconfig FROM pg_db_role_setting WHERE setrole <> 0")
        finally:
            server.do("ALTER ROLE humble RESET enable_indexscan")
            server.do("ALTER ROLE humble RESET enable_bitmapscan")
    assert done.code == 1, done.err
    (taken,) = [e for e in _events(done.out) if e["event"] == "taken-back"]
    assert f"{query} takes" in taken["words"] and taken["trial"] == trial["id"]
    assert "enable_indexscan" not in str(roles)
    settled = humble.ok("show", trial["id"]).out
    assert "drop (watched, and taken back" in settled
    figure = (humble.folder / "watch.svg").read_text()
    assert f"{trial['id']} taken back" in figure


@only_newest
def test_a_watch_that_samples_tells_who_waits_for_whom_once(
    humble: Program, server: Server
) -> None:
    humble.ok("init", server.url, "--role", "scratch")
    server.do("CREATE TABLE jetty (id int PRIMARY KEY, free int)")
    server.do("INSERT INTO jetty VALUES (1, 1)")
    held = "UPDATE jetty SET free = free - 1 WHERE id = 1"
    waits = "UPDATE jetty SET free = free + 1 WHERE id = 1"
    over = threading.Event()

    def wait() -> None:
        with psycopg.connect(server.url, autocommit=True) as connection:
            while not over.is_set():
                connection.execute(waits.encode())

    waiter = threading.Thread(target=wait)
    try:
        with psycopg.connect(server.url) as holder:
            holder.execute(held.encode())
            waiter.start()
            started = humble.start("watch", "--every", "2s", "--for", "6s", "--live", "--json")
            out, err = started.communicate()
            over.set()
            holder.rollback()
        assert started.returncode == 0, err
        blocked = [e for e in _events(out) if e["finding"] == "blocked"]
        assert len([e for e in blocked if e["event"] == "appeared"]) == 1, out
        assert "idle in its transaction" in blocked[0]["words"]
        assert "(sampled) for locks of" in blocked[0]["words"]
    finally:
        over.set()
        if waiter.ident:
            waiter.join()
        server.do("DROP TABLE jetty")


def test_what_cannot_be_watched_is_told_at_once(told: Program) -> None:
    assert "no trial t99" in told.fails(2, "watch", "--settle", "t99", "--for", "1s")
    assert "who is at work" in told.fails_somewhere(2, "watch", "--live", "--for", "1s")
    assert "span of time" in told.fails(2, "watch", "--every", "often")
    assert "statistics" in told.fails_somewhere(2, "watch", "--every", "1s", "--for", "1s")


def test_a_log_is_read_on_at_each_look(told: Program, tmp_path: Path) -> None:
    shutil.copytree(told.folder, tmp_path / "mine")
    mine = Program(tmp_path / "mine", told.environment)
    line = (
        "2026-03-02 17:06:01.000 UTC [1] humble@skerry/a LOG:  duration: 61.200 ms  statement: "
        "SELECT id FROM visit WHERE day = 'x'"
    )
    (mine.folder / "now.log").write_text(f"{line}\n")
    watch = ("watch", "--every", "1s", "--for", "2s", "--log", "now.log")
    said = mine.ok(*watch, "--prefix", "%m [%p] %q%u@%d/%a ").out
    assert "watching sqlite:" in said and "next: humble audit" in said
    (row,) = mine.json("queries", "--source", "log")["queries"]
    assert row["calls"] == 1
