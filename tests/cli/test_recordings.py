"""Recordings: a target written down, and the whole loop on what was written."""

from __future__ import annotations

import json
import re
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Server, only_newest
from tests.program import Program

SCAN = "SELECT avg(value) FROM reading WHERE buoy_id = 61"
JOIN = (
    "SELECT b.name, count(*) FROM reading r JOIN buoy b USING (buoy_id) "
    "WHERE r.quality = 3 GROUP BY b.name"
)


def elsewhere(humble: Program, folder: Path) -> Program:
    """The program in another folder, without the server's address."""
    folder.mkdir()
    environment = {k: v for k, v in humble.environment.items() if not k.startswith("PG")}
    return Program(folder, environment)


def shape(plan: Any) -> Any:
    """A plan's steps with their figures; no ids."""
    return {k: v for k, v in plan.items() if k not in ("id", "query")}


@only_newest
def test_the_whole_loop_goes_on_from_a_recording(
    begun: Program, server: Server, tmp_path: Path
) -> None:
    file = begun.folder / "problem.jsonl"
    made = begun.json("record", str(file), SCAN, JOIN, "--measure", "--trial")
    assert made["trials"] >= 1 and made["answers"] > 20 and not made["masked"]
    plan = begun.json("plan", SCAN)
    proposed = begun.json("propose", SCAN)["remedies"]

    away = elsewhere(begun, tmp_path / "away")
    started = away.json("init", f"recorded:{file}", "--role", "scratch")
    assert started["engine"]["name"] == "postgresql" and str(file) in started["url"]
    assert len(away.json("queries")["queries"]) == 2, "its statements come along"
    assert shape(away.json("plan", SCAN))["root"] == plan["root"]
    assert away.json("plan", "q1", "--measure")["measured"]
    assert away.json("diagnose", "q1")["symptoms"]
    again = away.json("propose", SCAN)["remedies"]
    assert [r["apply"] for r in again] == [r["apply"] for r in proposed]
    assert away.json("routes", "q1")["routes"]
    assert "reading" in away.ok("table", "reading").out
    trial = away.json("trial", "q1", "--remedy", again[0]["id"])
    assert trial["verdict"] == "faster" and trial["queries"][0]["uses_change"]
    kept = away.json("settle", trial["id"], "keep", "--reason", "as recorded")
    assert kept["files"]
    assert "cannot be changed" in away.fails(5, "settle", trial["id"], "keep", "--apply").strip()


def test_the_loop_of_a_file_goes_on_from_a_recording(humble: Program, tmp_path: Path) -> None:
    with closing(sqlite3.connect(humble.folder / "app.db")) as connection:
        connection.execute("CREATE TABLE reading (reading_id integer PRIMARY KEY, sensor_id int)")
        connection.executemany(
            "INSERT INTO reading VALUES (?, ?)", ((n, n * 7919 % 2000) for n in range(30_000))
        )
        connection.commit()
    before = (humble.folder / "app.db").read_bytes()
    humble.ok("init", "app.db", "--role", "scratch")
    sql = "SELECT count(*) FROM reading WHERE sensor_id = 77"
    assert humble.json("record", "x.jsonl", sql, "--trial")["trials"] == 1
    assert (humble.folder / "app.db").read_bytes() == before
    away = elsewhere(humble, tmp_path / "away")
    assert away.json("init", f"recorded:{humble.folder / 'x.jsonl'}")["engine"]["name"] == "sqlite"
    (remedy, *_) = away.json("propose", "q1")["remedies"]
    assert away.json("trial", "q1", "--remedy", remedy["id"])["verdict"] == "faster"


@only_newest
def test_what_was_not_recorded_is_said_and_never_invented(
    begun: Program, server: Server, tmp_path: Path
) -> None:
    file = begun.folder / "problem.jsonl"
    begun.ok("record", str(file), SCAN)
    assert "is there already" in begun.fails(4, "record", str(file), SCAN)
    away = elsewhere(begun, tmp_path / "away")
    away.ok("init", f"recorded:{file}")
    assert "no answer to: explain of SELECT 1" in away.fails(4, "plan", "SELECT 1")
    assert "(measured)" in away.fails(4, "plan", "q1", "--measure")
    said = away.fails(4, "trial", "q1", "--index", "reading (value)")
    assert "recording" in said
    assert "recording" in away.fails(3, "suppose", "q1", "--index", "reading (value)")
    assert "nosuch" in begun.fails(4, "record", "y.jsonl", "SELECT nosuch FROM reading")


@only_newest
def test_blanks_of_a_layout_are_no_other_question_and_those_of_a_value_are(
    begun: Program, server: Server, tmp_path: Path
) -> None:
    sql = "SELECT message FROM alert WHERE status = 'on  hold'"
    begun.ok("record", str(begun.folder / "hold.jsonl"), sql)
    away = elsewhere(begun, tmp_path / "away")
    away.ok("init", f"recorded:{begun.folder / 'hold.jsonl'}")
    assert away.json("plan", sql.replace(" FROM", "\n  FROM"))["root"]
    assert "no answer to" in away.fails(4, "plan", sql.replace("on  hold", "on hold"))


@only_newest
def test_a_masked_recording_holds_no_value(begun: Program, server: Server, tmp_path: Path) -> None:
    sql = "SELECT message FROM alert WHERE status = 'zanzibar' AND alert_id > 4711"
    file = begun.folder / "masked.jsonl"
    made = begun.json("record", str(file), sql, "--mask")
    text = file.read_text()
    # A moment may have these digits among others.
    assert made["masked"] and not re.search(r"zanzibar|(?<![\d.])4711(?!\d)", text)
    assert "--mask goes without" in begun.fails(2, "record", "x.jsonl", sql, "--mask", "--trial")
    away = elsewhere(begun, tmp_path / "away")
    away.ok("init", f"recorded:{file}")
    assert away.json("plan", "q1")["root"]
    assert away.json("diagnose", "q1") is not None
    assert away.json("propose", "q1") is not None


@pytest.mark.parametrize(
    ("engine", "index", "ratio"),
    [
        ("sqlserver", "dbo.reading (sensor_id, taken_at)", 842 / 1.3),
        ("oracle", "feas.reading (sensor_id, taken_at)", 845 / 1.6),
        ("cockroachdb", "reading (sensor_id)", 1290 / 4.1),
    ],
)
def test_the_loop_on_a_recording_that_comes_along(
    humble: Program, engine: str, index: str, ratio: float
) -> None:
    assert humble.json("init", f"recorded:{engine}")["engine"]["name"] == engine
    assert humble.json("plan", "q1", "--measure")["measured"]
    (first, *_) = humble.json("diagnose", "q1")["symptoms"]
    assert (first["name"], first["cause"]["name"]) == ("selective-full-scan", "no-index")
    (idea,) = humble.json("propose", "q1")["ideas"]
    assert f"{idea['table']} ({', '.join(idea['keys'])})" == index
    assert "Name one" in humble.fails(2, "propose")
    trial = humble.json("trial", "q1", "--index", index)
    (query,) = trial["queries"]
    assert trial["verdict"] == "faster" and query["uses_change"]
    assert query["ratio"]["low"] < 1 / ratio * 1.1 and query["ratio"]["high"] > 1 / ratio * 0.9
    assert humble.json("settle", "t1", "keep", "--reason", "as recorded")["files"]


def test_the_other_recordings_that_come_along(humble: Program) -> None:
    humble.ok("init", "recorded:duckdb")
    assert humble.json("plan", "q1", "--measure")["root"]["label"] == "Top N"
    other = Program(humble.folder / "soql", humble.environment)
    other.folder.mkdir()
    other.ok("init", "recorded:soql")
    assert other.json("routes", "q1")["routes"][0]["cost_estimated"] == 1.8
    assert "cockroachdb, duckdb, oracle" in other.fails(4, "init", "recorded:nosuch")


@pytest.mark.parametrize(
    ("lines", "told"),
    [
        ([], "empty"),
        (["{"], "Line 1"),
        ([{"format": "something else"}], "does not begin"),
        ([{"format": "humble-ledger-answers", "version": 1}], "names no engine"),
        ([{"format": "humble-ledger-answers", "version": 1, "engine": "oracle",
           "server": {"engine": "oracle"}}], "not as it should be"),
        ([{"format": "humble-ledger-answers", "version": 1, "engine": "oracle", "server": {}},
          {"with": {}}], "Line 2"),
    ],
)  # fmt: skip
def test_a_broken_recording_is_refused_with_its_line(
    humble: Program, lines: list[Any], told: str
) -> None:
    texts = [line if isinstance(line, str) else json.dumps(line) for line in lines]
    (humble.folder / "x.jsonl").write_text("\n".join(texts))
    assert told in humble.fails(4, "init", "recorded:x.jsonl")
