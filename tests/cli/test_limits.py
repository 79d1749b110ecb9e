"""Limits in a file for version control, by the program as a CI job runs it."""

from __future__ import annotations

import json
import os
import re
import sqlite3
import subprocess
import tomllib
from contextlib import closing
from pathlib import Path
from xml.etree import ElementTree as ET

import pytest

from tests.conftest import Server, only_newest
from tests.program import HUMBLE, SENSOR, Program

VISITS = """
SELECT id, day FROM visit WHERE keeper = 42 ORDER BY day;

SELECT count(*) FROM visit v JOIN buoy b ON b.id = v.buoy WHERE v.keeper = 7;
"""


@pytest.fixture
def app(humble: Program) -> Program:
    """A folder with statements in sql/, a database that has an index for them, and a ledger."""
    with closing(sqlite3.connect(humble.folder / "app.db")) as connection:
        connection.executescript(
            """
            CREATE TABLE buoy (id INTEGER PRIMARY KEY, name TEXT);
            CREATE TABLE visit (id INTEGER PRIMARY KEY, buoy INTEGER, keeper INTEGER, day TEXT);
            CREATE INDEX visit_keeper ON visit (keeper);
            """
        )
        connection.executemany(
            "INSERT INTO visit VALUES (?, ?, ?, ?)",
            ((n, n % 300, n * 31 % 700, f"2026-0{n % 9 + 1}") for n in range(20_000)),
        )
        connection.commit()
    (humble.folder / "sql").mkdir()
    (humble.folder / "sql" / "visits.sql").write_text(VISITS)
    humble.ok("init", "app.db")
    humble.ok("capture", "script", "sql/visits.sql", "--measure")
    humble.ok("limits", "set", "--statements", "sql")
    return humble


def _without_index(program: Program) -> None:
    with closing(sqlite3.connect(program.folder / "app.db")) as connection:
        connection.execute("DROP INDEX visit_keeper")


def _limits(program: Program) -> Path:
    return program.folder / "limits.toml"


def test_a_regression_breaks_the_limits_and_its_fix_holds_them_again(app: Program) -> None:
    assert "none is broken" in app.ok("limits", "check").out
    _without_index(app)
    done = app.run("limits", "check", "--junit", "limits.xml", "--sarif", "limits.sarif")
    assert done.code == 1
    assert "visits 1" in done.err and "visits 2" in done.err
    assert "step 2, SCAN on visit" in done.out
    assert "-   index scan visit by visit_keeper\n  +   full scan visit" in done.out

    suite = ET.parse(app.folder / "limits.xml").getroot().find("testsuite")
    assert suite is not None and suite.get("name") == "sql/visits.sql"
    failures = suite.findall("testcase/failure")
    assert suite.get("failures") == str(len(failures)) == "6"
    assert any("full scan visit" in (each.text or "") for each in failures)

    sarif = json.loads((app.folder / "limits.sarif").read_text())
    assert sarif["version"] == "2.1.0"
    results = sarif["runs"][0]["results"]
    rules = {rule["id"] for rule in sarif["runs"][0]["tool"]["driver"]["rules"]}
    assert {each["ruleId"] for each in results} == {"cost", "full-scan", "index"} <= rules
    places = [each["locations"][0]["physicalLocation"] for each in results]
    assert {each["artifactLocation"]["uri"] for each in places} == {"sql/visits.sql"}
    assert {each["region"]["startLine"] for each in places} == {2, 4}

    with closing(sqlite3.connect(app.folder / "app.db")) as connection:
        connection.execute("CREATE INDEX visit_keeper ON visit (keeper)")
    assert "none is broken" in app.ok("limits", "check").out


def test_a_statement_without_limits_is_named(app: Program) -> None:
    text = _limits(app).read_text().replace("version = 1", 'version = 1\nstatements = "sql"')
    _limits(app).write_text(text)
    (app.folder / "sql" / "new.sql").write_text("SELECT 1;\nSELECT max(day) FROM visit;\n")
    done = app.ok("limits", "check", "--sarif", "limits.sarif")
    assert "Without limits: sql/new.sql:2  SELECT max(day) FROM visit" in done.out
    results = json.loads((app.folder / "limits.sarif").read_text())["runs"][0]["results"]
    assert {each["level"] for each in results} == {"warning"}
    assert "have no limits" in app.fails_somewhere(1, "limits", "check", "--strict")


def test_limits_are_added_behind_those_of_the_file(app: Program) -> None:
    first = f"# ours\n{_limits(app).read_text()}"
    _limits(app).write_text(first)
    app.ok("plan", "SELECT max(day) FROM visit WHERE buoy = 3")
    added = app.json("limits", "set", "q3", "q1")
    assert added["added"] == ["q3"]
    assert added["left_out"] == [{"query": "q1", "why": "it has limits already: visits 1"}]
    text = _limits(app).read_text()
    assert text.startswith(first.rstrip())
    assert [each["name"] for each in tomllib.loads(text)["limit"]][-1] == "q3"
    app.ok("limits", "check")


def test_a_statement_that_cannot_be_planned_breaks_its_limits(app: Program) -> None:
    with closing(sqlite3.connect(app.folder / "app.db")) as connection:
        connection.execute("ALTER TABLE visit RENAME COLUMN keeper TO warden")
    found = app.run("limits", "check", "--json", "--junit", "limits.xml")
    assert found.code == 1
    assert all("keeper" in each["fault"] for each in found.json["statements"])
    root = ET.parse(app.folder / "limits.xml").getroot()
    assert root.get("errors") == "2"


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("version = 2", "version 2"),
        ("version = 1\n[[limit]]\nname = 'a'", "either sql or file"),
        ("version = 1\n[[limit]]\nsql = 'SELECT 1'\ncosts = 3", "costs"),
        ("version = 1\n[[limit]]\nsql = 'SELECT 1'\npages = 'many'", "pages"),
        ("version = 1\n[[limit]]\nfile = 'sql/none.sql'", "none.sql"),
        ("version = 1\n[[limit]]\nfile = 'sql/visits.sql'\nstatement = 9", "statement 9"),
        ("version = 1\n[[limit]]\nsql = 'SELECT 1'\ntime = {at_most = 2}", "time"),
        ("version = 1\nstatements = 'nowhere'", "nowhere"),
        ("version = \n", "line 1"),
    ],
)
def test_a_file_that_is_wrong_is_told_so(app: Program, text: str, said: str) -> None:
    _limits(app).write_text(text)
    assert said in app.fails(4, "limits", "check")


def test_without_a_file_or_queries_there_is_advice(humble: Program) -> None:
    with closing(sqlite3.connect(humble.folder / "app.db")) as connection:
        connection.execute("CREATE TABLE buoy (id INTEGER PRIMARY KEY)")
    humble.ok("init", "app.db")
    assert "limits set" in humble.fails(4, "limits", "check")
    assert "capture" in humble.fails(2, "limits", "set")


MEASURED = """version = 1

[[limit]]
name = "by index"
sql = "SELECT * FROM alert WHERE alert_id = 7"
pages = 20
rows_read_per_row = 2
no_spill = true
estimates_within = 10
time = {at_most = 3, beside = "SELECT count(*) FROM alert"}

[[limit]]
name = "whole table"
sql = "SELECT count(*) FROM reading WHERE value > 3"
pages = 20
rows_read_per_row = 10
time = {at_most = 2, beside = "SELECT 1"}

[[limit]]
name = "beside what acts"
sql = "SELECT * FROM alert WHERE alert_id = 7"
time = {at_most = 3, beside = "SELECT pg_stat_reset_shared('bgwriter')"}

[[limit]]
name = "a write"
sql = "UPDATE alert SET crew = crew WHERE alert_id = 7"
cost = 50
pages = 1000
"""


@only_newest
def test_what_must_be_measured_is_run(begun: Program, server: Server) -> None:
    _limits(begun).write_text(MEASURED)
    reset = server.fetch("SELECT stats_reset FROM pg_stat_bgwriter")
    before = server.fetch("SELECT sum(n_tup_upd) FROM pg_stat_user_tables")
    done = begun.run("limits", "check", "--json")
    assert done.code == 1
    found = {each["name"]: each for each in done.json["statements"]}
    assert {c["limit"]: c["outcome"] for c in found["by index"]["checks"]} == {
        "pages": "held", "rows-read-per-row": "held", "spill": "held", "estimates": "held",
        "time": "held",
    }  # fmt: skip
    assert {c["limit"]: c["outcome"] for c in found["whole table"]["checks"]} == {
        "pages": "broken", "rows-read-per-row": "broken", "time": "broken",
    }  # fmt: skip
    # What acts outside of a read-only transaction is not run, and that is said.
    (time,) = found["beside what acts"]["checks"]
    assert time["outcome"] == "unknown" and "pg_stat_reset_shared" in time["why"]
    assert server.fetch("SELECT stats_reset FROM pg_stat_bgwriter") == reset
    # What changes data is planned, and never run.
    assert {c["limit"]: c["outcome"] for c in found["a write"]["checks"]} == {
        "cost": "held", "pages": "unknown",
    }  # fmt: skip
    assert before == server.fetch("SELECT sum(n_tup_upd) FROM pg_stat_user_tables")


def test_what_was_kept_is_limited_before_it_is_made(app: Program) -> None:
    _without_index(app)
    _limits(app).unlink()
    trial = app.json("trial", "q1", "--index", "visit (keeper, day)")
    app.ok("settle", trial["id"], "keep", "--reason", "keepers wait")
    app.ok("plan", "q1")
    app.ok("limits", "set", "q1")
    (limit,) = tomllib.loads(_limits(app).read_text())["limit"]
    assert limit["uses_index"] == ["visit_keeper_day_idx"]
    assert limit["no_full_scan_of"] == ["visit"]
    assert app.run("limits", "check").code == 1
    forward = next((app.folder / "migrations").glob("*forward.sql")).read_text()
    with closing(sqlite3.connect(app.folder / "app.db")) as connection:
        connection.executescript(forward)
    app.ok("limits", "check")


@only_newest
def test_limits_from_a_plan_hold_on_a_copy_without_rows(begun: Program, server: Server) -> None:
    query = begun.query_with(SENSOR)
    begun.ok("plan", query, "--measure")
    set_ = begun.json("limits", "set", query, "--time")
    assert set_["added"] == [query]
    (limit,) = tomllib.loads(_limits(begun).read_text())["limit"]
    assert limit["pages"] >= 5_000 and limit["time"]["at_most"] == 2
    dump = str(server.binaries.program("pg_dump"))
    files: list[str] = []
    for part in ("schema", "statistics"):
        path = begun.folder / f"{part}.sql"
        subprocess.run([dump, f"--{part}-only", "--file", str(path), server.url], check=True)
        files += ["--from", str(path)]
    begun.ok("hollow", "build", "--name", "of-limits", *files)
    try:
        done = begun.json("limits", "check", "--target", "hollow:of-limits")
        checks = {c["limit"]: c for c in done["statements"][0]["checks"]}
        assert checks["cost"]["outcome"] == "held"
        assert {checks[name]["outcome"] for name in ("pages", "time")} == {"unknown"}
        assert "without rows" in checks["pages"]["why"]
    finally:
        begun.ok("hollow", "drop", "of-limits")


@only_newest
def test_the_job_of_the_guide_fails_on_a_regression_and_passes_after_its_fix(
    begun: Program, server: Server
) -> None:
    guide = (Path(__file__).parents[2] / "docs" / "guide" / "limits.md").read_text()
    (job,) = re.findall(r"```sh\n(.*?)```", guide, re.DOTALL)
    for folder in ("db", "sql"):
        (begun.folder / folder).mkdir()
    dump = str(server.binaries.program("pg_dump"))
    for part in ("schema", "statistics"):
        to = begun.folder / "db" / f"{part}.sql"
        subprocess.run([dump, f"--{part}-only", "--file", str(to), server.url], check=True)
    alerts = begun.folder / "sql" / "alerts.sql"
    good = "SELECT message FROM alert WHERE alert_id = 4711;"
    alerts.write_text(f"-- of one page\n{good}\n")
    begun.ok("plan", good)
    query = begun.json("history")["events"][-1]["words"].split()[-1]
    files = [f"--from=db/{part}.sql" for part in ("schema", "statistics")]
    begun.ok("hollow", "build", "--name", "ci", *files)
    begun.ok("limits", "set", query, "--fresh", "--target", "hollow:ci", "--statements", "sql")
    text = _limits(begun).read_text().replace("version = 1", 'version = 1\nstatements = "sql"')
    _limits(begun).write_text(text)

    def run() -> subprocess.CompletedProcess[str]:
        path = f"{Path(HUMBLE).parent}:{os.environ['PATH']}"
        return subprocess.run(
            ["bash", "-c", job], cwd=begun.folder, env={**begun.environment, "PATH": path},
            capture_output=True, text=True, check=False,
        )  # fmt: skip

    try:
        alerts.write_text(good.replace("alert_id =", "alert_id + 0 ="))
        broken = run()
        assert broken.returncode == 1 and "Seq Scan on alert" in broken.stdout
        assert ET.parse(begun.folder / "limits.xml").getroot().get("failures") == "3"
        alerts.write_text(good)
        fixed = run()
        assert fixed.returncode == 0, fixed.stdout + fixed.stderr
        (begun.folder / "sql" / "other.sql").write_text("SELECT count(*) FROM alert;")
        strict = run()
        assert strict.returncode == 1 and "sql/other.sql:1" in strict.stdout
    finally:
        begun.ok("hollow", "drop", "ci")
