"""The whole loop by the program, on real servers."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import psycopg
import pytest

from humble_ledger.demo.workload import load_workload
from tests.conftest import Server, only_newest
from tests.program import SENSOR, Program

CATALOGUE = """SELECT (SELECT count(*) FROM pg_class), (SELECT count(*) FROM pg_index),
    (SELECT count(*) FROM pg_statistic), pg_database_size(current_database())"""


def test_from_capture_to_a_settled_trial(begun: Program, server: Server) -> None:
    before = server.fetch(CATALOGUE)
    query = begun.query_with(SENSOR)

    plan = begun.json("plan", query, "--measure")
    assert plan["measured"] and plan["query"] == query
    assert plan["engine"]["name"] == "postgresql"
    assert plan["engine"]["version"].startswith(str(server.major))

    (symptom,) = begun.json("diagnose", query)["symptoms"]
    assert symptom["name"] == "selective-full-scan"
    assert symptom["cause"]["name"] == "no-index"
    assert 0 < symptom["cost_ms"] <= plan["execution_ms"]

    remedies = begun.json("propose", query)["remedies"]
    assert remedies[0]["apply"] == [
        "CREATE INDEX reading_sensor_id_taken_at_idx ON reading (sensor_id, taken_at);"
    ]
    predicted = remedies[0]["queries"][0]

    trial = begun.json("trial", query, "--remedy", remedies[0]["id"])
    (tried,) = trial["queries"]
    assert (trial["verdict"], tried["verdict"]) == ("faster", "faster")
    assert tried["ratio"]["high"] < 1 and tried["ratio"]["pairs"] >= 6
    assert len(tried["before"]["runs_ms"]) == len(tried["after"]["runs_ms"])
    assert tried["same_result"] and tried["uses_change"] and trial["left_behind"] == []
    assert tried["after"]["cost"] == pytest.approx(predicted["cost_predicted"], rel=0.1)
    assert tried["after"]["pages"] < tried["before"]["pages"] / 5
    after = begun.json("show", tried["after"]["plan"])
    assert "reading_sensor_id_taken_at_idx__t1" in str(after["root"])

    settled = begun.json("settle", "t1", "keep", "--reason", "pages wait")
    forward, backward = ((begun.folder / f).read_text() for f in settled["files"])
    _unchanged(before, server.fetch(CATALOGUE))
    _run(server, forward)
    assert begun.json("plan", query)["cost_total"] == pytest.approx(
        predicted["cost_predicted"], rel=0.1
    )
    _run(server, backward)
    assert server.fetch(CATALOGUE)[0][:3] == before[0][:3]

    words = begun.ok("history").out
    for entry in ("k1", "p1", "s1", "r1", "t1", "settled: keep (pages wait)"):
        assert entry in words
    assert begun.json("show", "r1")["remedies"][0]["status"] == "kept"


def _unchanged(before: list[tuple[Any, ...]], after: list[tuple[Any, ...]]) -> None:
    """The same counts; and the size, but for a page that rolled-back catalogue rows may fill."""
    assert after[0][:3] == before[0][:3]
    assert 0 <= after[0][3] - before[0][3] <= 8 * 8192


def _run(server: Server, script: str) -> None:
    """Run a migration as its file says: outside a transaction."""
    with psycopg.connect(server.url, autocommit=True) as connection:
        for statement in script.split(";\n"):
            if statement.strip():
                connection.execute(statement.encode())


@only_newest
def test_an_index_nobody_uses_makes_no_difference(begun: Program) -> None:
    query = begun.query_with(SENSOR)
    trial = begun.json(
        "trial", query, "--index", "reading (quality, value)", "--pairs", "12", "--effect", "15",
        "--slowest-only",
    )  # fmt: skip
    (tried,) = trial["queries"]
    assert tried["verdict"] in ("no-difference", "undecided")
    assert not tried["uses_change"] and tried["same_result"]
    words = begun.ok("show", "t1").out
    assert "the changed plan does not use it" in words


def test_the_capture_agrees_with_what_was_sent(begun: Program) -> None:
    rows = begun.json("queries")["queries"]
    workload = load_workload()
    assert len(rows) == len(workload)
    assert sum(row["calls"] for row in rows) == sum(len(list(w.sendings())) for w in workload)
    by_calls = {row["calls"]: row for row in rows}
    assert "FROM sensor WHERE sensor_id = $1" in by_calls[300]["text"]
    assert by_calls[300]["applications"] == ["stock-list"]
    assert sum(row["share"] for row in rows) == pytest.approx(1, abs=1e-4)
    assert rows == sorted(rows, key=lambda row: -row["total_ms"])


@only_newest
def test_reading_a_log_twice_counts_nothing_twice(begun: Program, server: Server) -> None:
    again = begun.json("capture", "log", str(server.log))
    assert (again["kept_runs"], again["lines"]) == (0, 0)
    once_more = begun.json("capture", "log", str(server.log), "--again")
    assert once_more["kept_runs"] > 300 and once_more["new_queries"] == 0


def test_every_statement_of_the_workload_can_be_read_and_diagnosed(begun: Program) -> None:
    found = begun.json("diagnose", "--measure")["symptoms"]
    # On a busy machine what a run's parallel workers took may be told before it.
    causes: dict[str, set[str]] = {}
    for symptom in found:
        causes.setdefault(symptom["query"], set()).add(symptom["cause"]["name"])
    expected = {
        SENSOR: "no-index",
        "date_trunc": "function-on-column",
        "value FROM reading WHERE reading_id": "type-mismatch",
        "ORDER BY status, kind, message": "memory-too-small",
        "FROM reading WHERE quality": "most-rows-wanted",
    }
    for part, cause in expected.items():
        assert cause in causes[begun.query_with(part)]
    healthy = begun.query_with("buoy_id = $1 AND taken_at >= $2")
    assert healthy not in causes
    assert "No symptom found in" in begun.ok("diagnose", healthy).out


@only_newest
def test_text_output_has_no_control_codes_in_a_pipe_and_fits(begun: Program) -> None:
    query = begun.query_with(SENSOR)
    for arguments in (
        ["queries"], ["show", query], ["plan", query], ["diagnose", query], ["propose", query],
        ["history"], ["--help"], ["trial", "--help"],
    ):  # fmt: skip
        done = begun.run(*arguments, COLUMNS="100")
        assert done.code == 0
        assert "\x1b" not in done.out
        assert max(len(line) for line in done.out.splitlines()) <= 100, arguments


def test_a_statement_can_be_given_as_text_file_standard_input_or_saved_plan(
    begun: Program, server: Server
) -> None:
    sql = "SELECT count(*) FROM visit WHERE minutes > 300"
    Path(begun.folder / "q.sql").write_text(sql + ";\n")
    plans = [
        begun.json("plan", sql),
        begun.json("plan", "@q.sql"),
        begun.json("plan", "-", stdin=sql),
    ]
    assert len({p["query"] for p in plans}) == 1
    assert len({p["cost_total"] for p in plans}) == 1
    with psycopg.connect(server.url) as connection:
        row = connection.execute(f"EXPLAIN (ANALYZE, FORMAT JSON) {sql}".encode()).fetchone()
    assert row is not None
    import json  # noqa: PLC0415

    (begun.folder / "saved.json").write_text(json.dumps(row[0]))
    saved = begun.json("plan", "@saved.json")
    assert saved["measured"] and saved["id"] == "file"
    assert saved["cost_total"] == plans[0]["cost_total"]


@only_newest
def test_require_gives_its_own_exit_code(begun: Program) -> None:
    query = begun.query_with(SENSOR)
    done = begun.run("trial", query, "--index", "reading (quality)", "--pairs", "6",
                     "--require", "faster", "--json")  # fmt: skip
    assert done.code == 1
    assert done.json["kind"] == "trial", "one document, though the check failed"
    assert "not faster" in done.err


@only_newest
def test_the_ranking_by_who_when_and_where(begun: Program) -> None:
    def calls(*options: str) -> int:
        return sum(row["calls"] for row in begun.json("queries", *options)["queries"])

    everything = calls()
    pages = calls("--application", "buoy-pages")
    assert 0 < pages < everything
    assert calls("--user", "humble") == everything and calls("--user", "nobody") == 0
    assert calls("--since", "1d") == everything and calls("--until", "1d") == 0
    first = min(r["first_seen"] for r in begun.json("queries")["queries"])
    assert calls("--until", first) == 0 and calls("--since", first) == everything
    sensors = begun.json("queries", "--table", "sensor")["queries"]
    assert len(sensors) == 3
    assert "humble queries" in begun.ok("queries", "--user", "nobody").out
    assert "no moment" in begun.fails(2, "queries", "--since", "soon")
