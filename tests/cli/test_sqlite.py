"""The whole loop over a file, by the program as users have it."""

from __future__ import annotations

import json
import sqlite3
import time
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from tests.program import PATIENCE_S, Program

SCRIPT = """
SELECT * FROM alert WHERE buoy_id = 17 ORDER BY raised_at DESC LIMIT 20;
SELECT id FROM alert WHERE note LIKE 'Storm 17%';
SELECT c.keeper FROM crew c CROSS JOIN alert a ON a.note = c.alert_note;
SELECT * FROM alert WHERE level = 3 AND raised_at > '2026-11';
SELECT id FROM alert WHERE date(raised_at) = '2026-03-04';
SELECT * FROM alert WHERE id = 7;
UPDATE alert SET level = 2 WHERE id = 3;
SELECT nothing FROM nowhere;
"""


@pytest.fixture
def app(tmp_path: Path) -> Path:
    path = tmp_path / "app.db"
    with closing(sqlite3.connect(path)) as connection:
        connection.executescript(
            """
            CREATE TABLE buoy (id INTEGER PRIMARY KEY, name TEXT);
            CREATE TABLE alert (id INTEGER PRIMARY KEY, buoy_id INTEGER REFERENCES buoy,
                raised_at TEXT, level INTEGER, note TEXT, words TEXT);
            CREATE TABLE crew (alert_note TEXT, keeper TEXT);
            CREATE INDEX alert_level ON alert (level, raised_at);
            CREATE INDEX alert_level_only ON alert (level);
            CREATE INDEX alert_words ON alert (words);
            """
        )
        connection.executemany(
            "INSERT INTO buoy VALUES (?, ?)", ((n, f"buoy {n}") for n in range(1, 401))
        )
        connection.executemany(
            "INSERT INTO alert VALUES (?, ?, ?, ?, ?, ?)",
            (
                (n, n * 7919 % 400 + 1, f"2026-{n % 12 + 1:02}-{n % 28 + 1:02}", n * 31 % 5 + 1,
                 f"Storm {n}", "calm " * (n % 7))
                for n in range(1, 60_001)
            ),
        )  # fmt: skip
        connection.executemany(
            "INSERT INTO crew VALUES (?, ?)", ((f"Storm {n * 3}", f"k{n}") for n in range(8_000))
        )
        connection.commit()
    return path


def test_from_a_script_to_a_change_in_the_file(app: Path, humble: Program) -> None:
    begun = humble.ok("init", app.name, "--role", "scratch").out
    assert "sqlite" in begun and "app.db" in begun
    sources = {each["source"]: each for each in humble.json("preflight")["sources"]}
    assert sources["planner statistics"]["state"] == "off"
    script = humble.folder / "slow.sql"
    script.write_text(SCRIPT)
    captured = humble.json("capture", "script", str(script))
    assert captured["capture"]["kept_runs"] == 7
    assert [each["fault"] for each in captured["statements"] if each["fault"]]

    told = {symptom["name"]: symptom for symptom in humble.json("diagnose")["symptoms"]}
    assert told["selective-full-scan"]["cause"]["name"] == "no-index"
    assert told["index-built-each-run"]["evidence"]["columns"] == "note"
    assert told["statistics-missing"]["cause"]["name"] == "never-analyzed"
    assert told["redundant-index"]["summary"].startswith("alert_level_only ")
    assert told["unused-index"]["summary"].startswith("alert_words is used by none of 7 captured")

    proposed = humble.json("propose")["remedies"]
    summaries = [remedy["summary"] for remedy in proposed]
    assert any("alert (buoy_id, raised_at DESC)" in summary for summary in summaries)
    assert any("note COLLATE nocase" in summary for summary in summaries)
    assert not any("USING" in sql or "CONCURRENTLY" in sql or "INCLUDE" in sql
                   for remedy in proposed for sql in remedy["apply"])  # fmt: skip
    (best,) = [r for r in proposed if "(buoy_id, raised_at DESC)" in r["summary"]]
    assert {p["way"] for p in best["queries"]} == {"planner"}

    before = app.read_bytes()
    tried = humble.json("trial", "q1", "--remedy", best["id"], "--workload", "--pairs", "12")
    assert tried["verdict"] == "faster" and tried["way"] == "two-copies"
    assert tried["left_behind"] == [] and app.read_bytes() == before
    (mine,) = [q for q in tried["queries"] if q["id"] == "q1"]
    assert mine["uses_change"] and mine["same_result"]
    assert mine["after"]["cost"] < mine["before"]["cost"] / 20

    settled = humble.ok("settle", "t1", "keep", "--reason", "the newest alerts", "--apply").out
    assert "ANALYZE" in settled and "app.db.before-" in settled
    (saved,) = app.parent.glob("app.db.before-*")
    assert saved.read_bytes()[100:] == before[100:], "but for counters in its header"
    scripts = sorted((humble.folder / "migrations").glob("*.sql"))
    with closing(sqlite3.connect(app)) as connection:
        indexes = {
            row[0] for row in connection.execute("SELECT name FROM pragma_index_list('alert')")
        }
        assert "alert_buoy_id_raised_at_idx" in indexes
        connection.executescript(scripts[0].read_text())  # backward: runs as it stands
        connection.executescript(scripts[1].read_text())
    plan = humble.json("plan", "q1")
    assert plan["root"]["children"][0]["index"] == "alert_buoy_id_raised_at_idx"


def test_a_measured_plan_tells_what_was_counted_of_the_whole(app: Path, humble: Program) -> None:
    humble.ok("init", f"sqlite:///{app}")
    said = humble.ok("plan", "SELECT * FROM alert WHERE words = 'x' ORDER BY note", "--measure").out
    assert "virtual machine steps" in said and "times no single steps" in said
    document = humble.json("plan", "SELECT count(*) FROM alert WHERE note = 'x'", "--measure")
    assert document["measured"] and document["execution_ms"] > 0
    (scan,) = document["root"]["children"]
    assert scan["rows_seen"] is None and scan["time_ms"]["self"] is None
    story = humble.ok("plan", "SELECT count(*) FROM alert WHERE note = 'x'", "--as", "steps").out
    assert "alert" in story


def test_what_is_not_counted_is_null_and_said(app: Path, humble: Program) -> None:
    humble.ok("init", str(app))
    table = humble.json("table", "Alert")
    assert table["full_scans"] is None and table["inserted_rows"] is None
    assert table["rows_estimated"] == 60_000 and table["pages_needed_computed"] is None
    assert "counts neither reads nor writes" in humble.ok("table", "alert").out
    column = humble.json("table", "alert.level", "--count")
    assert column["counted_distinct"] == 5


@pytest.mark.parametrize(
    ("arguments", "words", "code"),
    [
        (["capture", "server"], "keeps no statistics of the statements", 2),
        (["capture", "live", "--for", "1s"], "no server", 2),
        (["trial", "SELECT 1", "--set", "cache_size=5"], "no settings", 2),
        (["plan", "SELECT * FROM nowhere"], "no such table: nowhere", 4),
        (["plan", "SELECT my_own(1)"], "no such function", 4),
        (["plan", "PRAGMA user_version = 5"], "has no plan", 4),
        (["plan", "DELETE FROM alert", "--measure"], "--allow-writes", 5),
        (["plan", "SELECT 1", "--target", "gone.db"], "There is no file", 3),
    ],
)
def test_what_cannot_be_done_is_said_with_what_to_do(
    app: Path, humble: Program, arguments: list[str], words: str, code: int
) -> None:
    humble.ok("init", str(app))
    done = humble.run(*arguments)
    assert done.code == code and words in done.err and "Traceback" not in done.err
    assert len(done.err.strip().splitlines()) <= 3


def test_copies_of_a_trial_that_was_killed_are_found_and_removed(
    app: Path, humble: Program
) -> None:
    humble.ok("init", str(app))
    folder = humble.folder / "tmp"
    folder.mkdir()
    humble.environment["TMPDIR"] = str(folder)
    sql = "SELECT * FROM alert WHERE note = 'Storm 5'"
    running = humble.start("trial", sql, "--index", "alert (note)", "--pairs", "400")
    give_up = time.monotonic() + PATIENCE_S
    while not any(folder.glob("humble-copy-*/after.db")):
        assert time.monotonic() < give_up and running.poll() is None
        time.sleep(0.02)
    running.kill()
    running.wait()
    assert any(folder.glob("humble-copy-*"))
    # In a process of its own, which looks for the folder of temporary files itself.
    said, _ = humble.start("tidy", "--json").communicate()
    (found,) = json.loads(said)["trials"]
    assert any("copy" in words for words in found["found"])
    assert not any(folder.glob("humble-copy-*"))


def test_an_index_of_other_words_is_supposed_and_others_are_supposed_gone(
    app: Path, humble: Program
) -> None:
    humble.ok("init", str(app))
    sql = "SELECT note FROM alert WHERE level = 3 AND words = 'calm '"
    found = humble.json("suppose", sql, "--index", "ALERT (Words, LEVEL, note)")
    text = json.dumps(found)
    assert found["queries"][0]["cost_after"] < found["queries"][0]["cost_before"]
    assert "note" in text
    without = humble.json("suppose", sql, "--without-index", "alert_words")
    assert without["queries"][0]["cost_after"] >= found["queries"][0]["cost_before"]


def _steps(step: dict[str, Any]) -> list[dict[str, Any]]:
    return [step, *(below for child in step["children"] for below in _steps(child))]


def test_what_a_change_sets_off_is_planned_found_and_tried(humble: Program) -> None:
    with closing(sqlite3.connect(humble.folder / "set.db")) as connection:
        connection.executescript(
            """
            CREATE TABLE buoy (id INTEGER PRIMARY KEY, name TEXT);
            CREATE TABLE sensor (id INTEGER PRIMARY KEY, of_buoy INT
                REFERENCES buoy ON DELETE CASCADE);
            CREATE TABLE port (id INTEGER PRIMARY KEY);
            CREATE TABLE visit (id INTEGER PRIMARY KEY, at_buoy INT REFERENCES buoy,
                from_port INT REFERENCES port);
            CREATE TABLE alert (id INTEGER PRIMARY KEY, said TEXT);
            CREATE TABLE "diary" (what TEXT, times INT);
            CREATE TRIGGER gone AFTER DELETE ON buoy WHEN old.id > 5 BEGIN
                INSERT INTO diary SELECT 'old.name', count(*) FROM alert WHERE said = OLD."name";
                SELECT raise(ABORT, 'no') WHERE old.id < 0;
            END;
            """
        )
        connection.executemany("INSERT INTO buoy VALUES (?, ?)", ((n, f"b{n}") for n in range(800)))
        for table, column, many in (("sensor", "of_buoy", 14_000), ("visit", "at_buoy", 20_000)):
            connection.executemany(
                f"INSERT INTO {table} (id, {column}) VALUES (?, ?)",
                ((n, n % 600) for n in range(many)),
            )
        connection.executemany(
            "INSERT INTO alert VALUES (?, ?)", ((n, f"b{n % 700}") for n in range(20_000))
        )
        connection.commit()
    humble.ok("init", "set.db", "--role", "scratch")
    delete = "DELETE FROM buoy WHERE id > 700"
    steps = _steps(humble.json("plan", delete)["root"])
    told = {(step["relation"], step["label"]) for step in steps if step["label"] == "SCAN"}
    assert told == {("sensor", "SCAN"), ("visit", "SCAN"), ("alert", "SCAN")}
    # A key that refers to another table is not asked.
    assert not any("from_port" in text for s in steps for text in s["conditions"]["filter"])
    found = humble.json("diagnose", "q1")["symptoms"]
    keys = sorted(s["summary"].split(",")[0] for s in found if s["name"].startswith("foreign"))
    assert [key.rpartition(" ")[2] for key in keys] == ["sensor", "visit"]
    # A name of the row before is no table's: a change that touches no key sets nothing off.
    renamed = humble.json("plan", "UPDATE buoy SET name = 'x' WHERE id > 700")
    assert len(_steps(renamed["root"])) == 2

    indexes = ("sensor (of_buoy)", "visit (at_buoy)", "alert (said)")
    asked = [word for index in indexes for word in ("--index", index)]
    supposed = humble.json("suppose", "q1", *asked)["queries"][0]
    tried = humble.json("trial", "q1", *asked, "--allow-writes", "--pairs", "8")["queries"][0]
    assert tried["verdict"] == "faster"
    assert supposed["cost_after"] == pytest.approx(tried["after"]["cost"], rel=0.25)


def test_statistics_of_all_tables_by_one_statement(app: Path, humble: Program) -> None:
    humble.ok("init", app.name, "--role", "scratch")
    humble.ok("plan", "SELECT * FROM alert WHERE level = 3 AND raised_at > '2026-11'")
    first = next(r for r in humble.json("propose")["remedies"] if "all tables" in r["summary"])
    assert "PRAGMA optimize" in first["apply"][0]
    tried = humble.json("trial", "q1", "--remedy", first["id"], "--pairs", "12")
    humble.ok("settle", tried["id"], "keep", "--reason", "others need them", "--apply")
    with closing(sqlite3.connect(app)) as connection:
        assert connection.execute("SELECT count(*) FROM sqlite_stat1").fetchone()[0] >= 2


def test_rows_that_lie_in_the_wrong_order_for_their_key(humble: Program) -> None:
    with closing(sqlite3.connect(humble.folder / "keys.db")) as connection:
        connection.executescript(
            """
            CREATE TABLE part (code TEXT PRIMARY KEY, weight INTEGER);
            CREATE TABLE part_in_order (code TEXT PRIMARY KEY, weight INTEGER) WITHOUT ROWID;
            CREATE TABLE sheet (code TEXT PRIMARY KEY, words TEXT) WITHOUT ROWID;
            CREATE TABLE sheet_apart (code TEXT PRIMARY KEY, words TEXT);
            CREATE TABLE used (id INTEGER PRIMARY KEY, code TEXT);
            """
        )
        codes = [f"P{n * 7919 % 6007:06}" for n in range(6_000)]
        for table, second in (
            ("part", 17), ("part_in_order", 17), ("sheet", "é" * 500), ("sheet_apart", "é" * 500)
        ):  # fmt: skip
            rows = [(code, second) for code in codes]
            connection.executemany(f"INSERT INTO {table} VALUES (?, ?)", rows)
        connection.executemany("INSERT INTO used (code) VALUES (?)", [(code,) for code in codes])
        connection.execute("ANALYZE")
        connection.commit()
    humble.ok("init", "keys.db")
    script = humble.folder / "joins.sql"
    joined = "SELECT max({0}) FROM used u JOIN {1} p ON p.code = u.code;\n"
    script.write_text(
        joined.format("weight", "part")
        + joined.format("weight", "part_in_order")
        + joined.format("words", "sheet")
        + joined.format("words", "sheet_apart")
        + "SELECT * FROM part WHERE code = 'P000017';\n"  # one search is not worth a word
    )
    humble.ok("capture", "script", str(script))
    told = [
        (each["query"], each["name"], each["evidence"]["row_bytes_estimated"])
        for each in humble.json("diagnose")["symptoms"]
        if each["name"] in ("unclustered-primary-key", "long-rows-clustered")
    ]
    assert [each[:2] for each in told] == [
        ("q1", "unclustered-primary-key"),
        ("q3", "long-rows-clustered"),
    ]
    assert told[0][2] < 15
    assert told[1][2] == pytest.approx(1_009, abs=5), "of two bytes for each letter"
