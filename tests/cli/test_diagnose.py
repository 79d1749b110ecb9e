"""Symptoms on real servers: each goes when what its cause suggests is really done."""

from __future__ import annotations

import json

import pytest

from tests.conftest import Server, only_newest, only_oldest
from tests.program import Program


def names(begun: Program, sql: str) -> list[str]:
    found = begun.json("diagnose", sql, "--measure")["symptoms"]
    return [s["name"] for s in found if not s["harmless"]]


def test_the_wrong_end_of_an_index_is_cured_by_one_that_begins_there(
    begun: Program, server: Server
) -> None:
    sql = "SELECT alert_id FROM alert WHERE code = 'E-1417'"
    found = begun.json("diagnose", sql, "--measure")["symptoms"]
    assert [s["cause"]["name"] for s in found] == ["not-the-leading-column"]
    server.do("CREATE INDEX tried_code ON alert (code)")
    try:
        assert names(begun, sql) == []
    finally:
        server.do("DROP INDEX tried_code")


@only_oldest
def test_small_matters_are_left_out_until_asked_for(begun: Program, server: Server) -> None:
    few, all_ = begun.ok("diagnose"), begun.ok("diagnose", "--all")
    assert "more below 1 % of the captured time; --all shows them." in few.out
    assert "more below" not in all_.out
    assert len(all_.out.splitlines()) > len(few.out.splitlines())
    assert few.out.index("The schema") > few.out.index("q9")
    found = begun.json("diagnose")
    assert found["captured_ms"] > 0
    assert found["probes"] > 0
    assert "not measured" in found["unknown"][0]
    assert "questions in" in begun.ok("diagnose", "q1", "--verbose").out


def test_a_symptom_found_again_keeps_its_id_and_gets_new_figures(
    begun: Program, server: Server
) -> None:
    query = begun.query_with("code = $1")
    plan = begun.json("plan", query, "--measure")["id"]
    first = begun.json("diagnose", plan)["symptoms"]
    again = begun.json("diagnose", plan)["symptoms"]
    assert first and [s["id"] for s in again] == [s["id"] for s in first]


@only_newest
def test_a_saved_plan_is_judged_without_a_server(humble: Program, server: Server) -> None:
    sql = "SELECT max(message) FROM alert WHERE date_trunc('day', raised_at) = '2026-05-02'"
    ((document,),) = server.fetch(f"EXPLAIN (ANALYZE, VERBOSE, FORMAT JSON) {sql}")
    (humble.folder / "saved.json").write_text(json.dumps(document))
    found = humble.json("diagnose", "saved.json")
    (symptom,) = found["symptoms"]
    assert (symptom["name"], symptom["cause"]["name"]) == (
        "selective-full-scan", "function-on-column",
    )  # fmt: skip
    assert "not known here" in found["unknown"][0]
    assert "saved.json" in humble.ok("diagnose", "saved.json").out


@only_newest
def test_a_plan_that_flipped_is_told_with_both_times(begun: Program, server: Server) -> None:
    query = begun.query_with("v.keeper_id = $1")
    before = begun.json("plan", query, "--measure")
    server.do("CREATE INDEX tried_keeper ON visit (keeper_id)")
    try:
        after = begun.json("plan", query, "--measure")
    finally:
        server.do("DROP INDEX tried_keeper")
    told = {s["name"]: s for s in begun.json("diagnose", query)["symptoms"]}["plan-flipped"]
    assert told["evidence"]["plan_before"] == before["id"]
    assert told["evidence"]["plan_after"] == after["id"]
    assert told["evidence"]["before_ms"] == pytest.approx(before["execution_ms"])
    assert "tried_keeper" in told["cause"]["detail"]
    compared = begun.json("compare", before["id"], after["id"])
    assert "tried_keeper" in str(compared)


@only_newest
def test_the_schema_alone_and_what_is_wrong_with_it(begun: Program, server: Server) -> None:
    server.do("CREATE TABLE tried AS SELECT * FROM alert")
    try:
        server.do("CREATE INDEX tried_one ON tried (code)")
        server.do("CREATE INDEX tried_two ON tried (code)")
        server.do("CREATE INDEX tried_unused ON tried (kind, crew)")
        for _ in range(10):  # an index that was there for two or three reads tells nothing
            server.fetch("SELECT count(message) FROM tried")
        found = begun.json("diagnose", "--schema")["symptoms"]
        mine = {(s["name"], s["subject"]) for s in found if s["subject"].startswith("tried")}
        # The twin that serves for both is not told to go, too.
        assert mine == {
            ("duplicate-index", "tried.tried_two"),
            ("unused-index", "tried.tried_unused"),
            ("statistics-missing", "tried"),
        }
        server.do("ANALYZE tried")
        server.do("UPDATE tried SET status = 'seen' WHERE alert_id % 5 = 0")
        again = {s["name"] for s in begun.json("diagnose", "--schema")["symptoms"]}
        assert "statistics-stale" in again
        assert "statistics-missing" not in again
        assert found and all(s["cost_ms"] is None for s in found)
    finally:
        server.do("DROP TABLE tried")


@only_newest
def test_a_change_is_measured_when_that_is_allowed_and_rolled_back(
    begun: Program, server: Server
) -> None:
    change = "UPDATE alert SET status = 'gone' WHERE code = 'E-1417'"
    assert "--allow-writes" in begun.fails(5, "diagnose", change, "--measure")
    found = begun.json("diagnose", change, "--measure", "--allow-writes")
    # Where writing took nearly all of the time, the scan before it is not worth a word.
    assert not any("not measured" in each for each in found["unknown"])
    assert all(s["cost_ms"] is not None for s in found["symptoms"][:1])
    assert server.fetch("SELECT count(*) FROM alert WHERE status = 'gone'") == [(0,)]


@only_newest
def test_a_scan_is_called_right_only_when_no_index_would_beat_it(
    begun: Program, server: Server
) -> None:
    joined = (
        "SELECT s.kind, sum(r.value) FROM reading r JOIN sensor s USING (sensor_id) "
        "WHERE s.sensor_id < 200 GROUP BY 1"
    )
    (found,) = begun.json("diagnose", joined)["symptoms"]
    assert found["name"] == "full-scan-avoidable" and not found["harmless"]
    assert "reading (sensor_id)" in found["cause"]["detail"]
    assert found["evidence"]["cost_predicted"] < 0.5 * found["evidence"]["cost_now"]
    (right,) = begun.json("diagnose", "SELECT sum(length(message)) FROM alert")["symptoms"]
    assert right["name"] == "scan-is-right"


@only_newest
def test_what_a_delete_sets_going_is_told_before_it_is_run(begun: Program, server: Server) -> None:
    found = begun.json("diagnose", "DELETE FROM keeper WHERE keeper_id = 7")["symptoms"]
    told = {s["evidence"]["constraint"] for s in found if s["name"] == "foreign-key-without-index"}
    assert "visit_keeper_id_fkey" in told
    assert not begun.json("diagnose", "DELETE FROM alert WHERE alert_id = 7")["symptoms"]


@only_newest
def test_what_cannot_be_judged_does_not_hide_the_rest(begun: Program, server: Server) -> None:
    found = begun.json("diagnose", "q1", "SELECT nothing FROM nowhere")
    (refused,) = found["not_judged"]
    assert "nowhere" in refused["reason"]
    assert found["symptoms"]
    assert "Not judged: SELECT 1 FROM" in begun.ok("diagnose", "q1", "SELECT 1 FROM nowhere").out


@only_newest
def test_rows_fetched_to_be_thrown_away_are_seen_before_it_is_run(
    begun: Program, server: Server
) -> None:
    for sql in (
        "SELECT value FROM reading WHERE buoy_id IN (17, 18) AND sensor_id = 99",
        "SELECT value FROM reading WHERE buoy_id IN (17, 18) AND taken_at > '2026-01-05' "
        "AND sensor_id = 99",
    ):
        found = begun.json("diagnose", sql)["symptoms"]
        assert [(s["name"], s["cause"]["name"]) for s in found] == [
            ("index-scan-discards-most", "condition-not-in-index")
        ], sql
        assert found[0]["evidence"]["rows_fetched"] > 10 * found[0]["evidence"]["rows_kept"]


@only_newest
def test_an_index_of_some_rows_that_is_read_whole_is_seen_before_it_is_run(
    begun: Program, server: Server
) -> None:
    server.do("CREATE TABLE walked AS SELECT * FROM alert")
    try:
        server.do("CREATE INDEX ON walked (raised_at) WHERE status = 'open'")
        server.do("ANALYZE walked")
        sql = "SELECT message FROM walked WHERE code = 'E-1417' AND status = 'open'"
        (found,) = begun.json("diagnose", sql)["symptoms"]
        assert found["name"] == "index-scan-discards-most"
        # Not the table's 60,000: those that the index holds.
        assert 2_000 < found["evidence"]["rows_fetched"] < 4_000
    finally:
        server.do("DROP TABLE walked")
