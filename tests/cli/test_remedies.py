"""Remedies of every type: proposed, runnable both ways, tried, settled."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager

import psycopg
import pytest

from tests.conftest import Server, only_newest, only_oldest
from tests.program import Program

CATALOGUE = """
SELECT 'index', indexrelid::regclass::text FROM pg_index WHERE indrelid::regclass::text !~ '^pg_'
UNION ALL SELECT 'statistics', stxname FROM pg_statistic_ext
UNION ALL SELECT 'target', attname || attstattarget FROM pg_attribute
  WHERE attstattarget > 0 AND attrelid = 'alert'::regclass
UNION ALL SELECT 'setting', setconfig::text FROM pg_db_role_setting
ORDER BY 1, 2
"""


@contextmanager
def as_printed(server: Server) -> Iterator[psycopg.Connection[tuple[object, ...]]]:
    """A connection that runs what a remedy prints, statement by statement."""
    with psycopg.connect(server.url, autocommit=True) as connection:
        yield connection


@only_oldest
def test_every_remedy_runs_as_printed_and_its_way_back_undoes_it(
    begun: Program, server: Server
) -> None:
    begun.ok("diagnose", "--measure")
    remedies = begun.json("propose")["remedies"]
    assert {"index", "removal", "statistics", "setting", "rewrite"} == {r["type"] for r in remedies}
    before = server.fetch(CATALOGUE)
    with as_printed(server) as connection:
        for remedy in remedies:
            # Other tests need these statistics to stay as old as they are.
            applied = [text for text in remedy["apply"] if text != "ANALYZE reading;"]
            if not applied:
                continue
            for statement in applied:
                # A page is asked for with the values of the row before it.
                waits = "PREPARE as_printed AS " if remedy["values_from"] else ""
                connection.execute(f"{waits}{statement}".encode())
            changed = connection.execute(CATALOGUE.encode()).fetchall()
            if remedy["revert"] and remedy["type"] not in ("setting", "rewrite"):
                assert changed != before, remedy["summary"]
            for statement in remedy["revert"]:
                if statement != "ANALYZE reading;":
                    connection.execute(statement.encode())
            assert connection.execute(CATALOGUE.encode()).fetchall() == before, remedy["summary"]


@only_newest
def test_proposals_can_be_narrowed_and_written_as_a_script(begun: Program, server: Server) -> None:
    export = begun.query_with("ORDER BY status, kind, message")
    begun.ok("diagnose", export, "--measure")
    (setting,) = begun.json("propose", export, "--type", "setting")["remedies"]
    assert setting["apply"][0].startswith("SET work_mem = '")
    assert setting["queries"][0]["way"] == "planner"
    assert len(begun.json("propose", "--top", "2")["remedies"]) == 2
    script = begun.ok("propose", export, "--sql").out
    assert "-- back: RESET work_mem;" in script
    with psycopg.connect(server.url) as connection:  # rolled back when left
        connection.execute(script.encode())
        connection.rollback()
    assert "Unknown type of remedy" in begun.fails(2, "propose", "--type", "magic")
    told = {s["name"]: s for s in begun.json("diagnose", export)["symptoms"]}
    assert setting["id"] in told["sort-spills"]["remedies"]
    assert "SET work_mem" in begun.ok("show", setting["id"]).out


@only_newest
def test_a_setting_is_tried_in_one_session_alone(begun: Program, server: Server) -> None:
    export = begun.query_with("ORDER BY status, kind, message")
    begun.ok("diagnose", export, "--measure")
    (setting,) = begun.json("propose", export, "--type", "setting")["remedies"]
    trial = begun.json("trial", export, "--remedy", setting["id"], "--pairs", "6", "--slowest-only")
    (tried,) = trial["queries"]
    assert tried["uses_change"] and tried["same_result"]
    after = begun.json("show", tried["after"]["plan"])
    spilled = [n["memory"] for n in _nodes(after["root"]) if n["memory"]]
    assert spilled and all(memory["spilled_bytes"] == 0 for memory in spilled)
    assert trial["left_behind"] == []
    settled = begun.json("settle", trial["id"], "keep", "--reason", "it spills no more")
    forward = next(f for f in settled["files"] if "forward" in f)
    text = (begun.folder / forward).read_text()
    assert "ALTER ROLE CURRENT_USER SET work_mem" in text
    assert "outside a transaction" not in text


def _nodes(node: dict[str, object]) -> Iterator[dict[str, object]]:
    yield node
    for child in node["children"]:  # type: ignore[attr-defined]
        yield from _nodes(child)


ANALYZED = """SELECT relname, n_mod_since_analyze, last_analyze FROM pg_stat_user_tables
    ORDER BY relname"""


@only_oldest
def test_statistics_are_tried_and_leave_nothing(begun: Program, server: Server) -> None:
    late = begun.query_with("v.started_at - a.raised_at AS delay")
    begun.ok("diagnose", late, "--measure")
    found = begun.json("propose", late, "--type", "statistics")["remedies"]
    (extended,) = [r for r in found if "CREATE STATISTICS" in r["apply"][0]]
    before, counted = server.fetch(CATALOGUE), server.fetch(ANALYZED)
    trial = begun.json("trial", late, "--remedy", extended["id"], "--pairs", "4", "--slowest-only")
    assert server.fetch(CATALOGUE) == before
    (tried,) = trial["queries"]
    # The planner now sees the rows that come, so the plan costs more and is another one.
    assert tried["uses_change"]
    assert tried["after"]["cost"] > 2 * tried["before"]["cost"]
    assert "a change that only one of two connections saw" in begun.ok("show", trial["id"]).out
    assert server.fetch(ANALYZED) == counted, "an ANALYZE that is rolled back is not counted"
    settled = begun.json("settle", trial["id"], "keep", "--reason", "truer estimates")
    texts = [(begun.folder / f).read_text() for f in settled["files"]]
    assert any("CREATE STATISTICS" in text for text in texts)
    assert any("DROP STATISTICS" in text for text in texts)


@only_newest
def test_for_a_saved_plan_there_are_ideas_and_no_predictions(
    begun: Program, server: Server
) -> None:
    sql = "SELECT value FROM reading WHERE sensor_id = 1187 AND quality = 2"
    ((document,),) = server.fetch(f"EXPLAIN (ANALYZE, VERBOSE, FORMAT JSON) {sql}")
    (begun.folder / "saved.json").write_text(json.dumps(document))
    (idea,) = begun.json("propose", "saved.json")["ideas"]
    assert set(idea["keys"]) == {"sensor_id", "quality"}
    assert "Nothing is predicted" in begun.ok("propose", "saved.json").out
    assert "saved plan" in begun.ok("propose", "saved.json", "q1").out, "left out, and said so"
    assert "saved plan" in begun.fails(2, "propose", "saved.json", "--budget", "5")


@only_newest
def test_a_covering_index_costs_what_was_predicted_when_it_is_really_built(
    begun: Program, server: Server
) -> None:
    sql = "SELECT avg(value) FROM reading WHERE buoy_id = 61"
    begun.ok("plan", sql, "--measure")
    first = begun.json("propose", sql)["remedies"][0]
    assert first["apply"] == [
        "CREATE INDEX reading_buoy_id_value_idx ON reading (buoy_id) INCLUDE (value);"
    ]
    (predicted,) = first["queries"]
    with psycopg.connect(server.url) as connection:  # rolled back when left
        connection.execute(first["apply"][0].encode())
        ((document,),) = connection.execute(f"EXPLAIN (FORMAT JSON) {sql}".encode()).fetchall()
        ((size,),) = connection.execute(
            "SELECT pg_relation_size('reading_buoy_id_value_idx')"
        ).fetchall()
        connection.rollback()
    assert document[0]["Plan"]["Total Cost"] == pytest.approx(predicted["cost_predicted"], rel=0.1)
    assert size == pytest.approx(first["size_bytes_predicted"], rel=0.1)


def test_a_covering_index_is_not_proposed_where_the_bare_one_does(
    begun: Program, server: Server
) -> None:
    sql = (
        "SELECT alert_id, raised_at FROM alert WHERE kind = 'ice' AND cause = 'cause-20' "
        "AND crew = 'crew-20'"
    )
    begun.ok("plan", sql, "--measure")
    found = begun.json("propose", sql, "--type", "index")["remedies"]
    assert found
    assert not any("INCLUDE" in r["apply"][0] for r in found)


@only_newest
def test_rewrites_are_proposed_tried_against_the_old_text_and_settled(
    begun: Program, server: Server
) -> None:
    day = "SELECT alert_id, message FROM alert WHERE date_trunc('day', raised_at) = '2026-05-02'"
    begun.ok("diagnose", day, "--measure")
    (rewrite,) = begun.json("propose", day.replace(" WHERE", "\nWHERE"), "--type", "rewrite")[
        "remedies"
    ]
    script = begun.ok("propose", day.replace(" WHERE", "\nWHERE"), "--sql").out
    assert script.strip() and all(
        s.startswith(("SELECT", "CREATE", "--")) for s in script.splitlines() if s
    )
    assert "'2026-05-03'" in rewrite["apply"][0]
    assert rewrite["queries"][0]["way"] == "planner"
    old, new = (server.fetch(sql) for sql in (day, rewrite["apply"][0].rstrip(";")))
    assert sorted(map(str, old)) == sorted(map(str, new))
    trial = begun.json("trial", day, "--remedy", rewrite["id"], "--pairs", "12")
    (tried,) = trial["queries"]
    assert (trial["verdict"], tried["same_result"]) == ("faster", True)
    assert tried["after"]["cost"] == pytest.approx(rewrite["queries"][0]["cost_predicted"], rel=0.1)
    assert "one connection sent the old statement" in begun.ok("show", trial["id"]).out
    assert "2026-05-03" in begun.ok("plan", tried["after"]["plan"]).out
    (forward, *_) = begun.json("settle", trial["id"], "keep")["files"]
    assert "the application sends" in (begun.folder / forward).read_text()
    assert "another text for" in begun.fails(2, "trial", "q1", "--remedy", rewrite["id"])


@only_newest
def test_a_turned_comparison_is_proposed_beside_the_index_that_it_takes(
    begun: Program, server: Server
) -> None:
    sql = "SELECT visit_id FROM visit WHERE started_at::date = '2026-03-03'"
    (found,) = begun.json("diagnose", sql)["symptoms"]
    assert found["name"] == "selective-full-scan" and "started_at" in found["cause"]["detail"]
    (remedy,) = begun.json("propose", sql)["remedies"]
    assert (remedy["type"], remedy["beside_index"]) == ("rewrite", "visit (started_at)")
    assert remedy["size_bytes_predicted"] > 0
    assert "an index on visit (started_at)" in begun.ok("show", remedy["id"]).out
    trial = begun.json("trial", sql, "--remedy", remedy["id"], "--pairs", "12")
    (tried,) = trial["queries"]
    assert (trial["verdict"], tried["same_result"], trial["left_behind"]) == ("faster", True, [])
    predicted = remedy["queries"][0]["cost_predicted"]
    assert tried["after"]["cost"] == pytest.approx(predicted, rel=0.1)
    files = begun.json("settle", trial["id"], "keep")["files"]
    forward = (begun.folder / files[0]).read_text()
    assert "the application sends" in forward and "ON visit (started_at)" in forward


@only_oldest
def test_a_number_of_the_columns_own_type_is_proposed(begun: Program, server: Server) -> None:
    sql = "SELECT value FROM reading WHERE reading_id = 918273.0"
    begun.ok("plan", sql)
    (rewrite,) = begun.json("propose", sql, "--type", "rewrite")["remedies"]
    assert rewrite["apply"] == ["SELECT value FROM reading WHERE reading_id = 918273;"]
    told = begun.json("diagnose", sql)["symptoms"][0]
    assert rewrite["id"] in told["remedies"]


@only_newest
def test_a_statement_that_is_named_counts_though_no_time_of_it_was_captured(
    begun: Program,
) -> None:
    sql = (
        "SELECT a.message, v.remark FROM alert a JOIN visit v ON v.buoy_id = a.buoy_id "
        "WHERE a.code = 'E-1417' AND v.keeper_id = 5"
    )
    found = begun.json("propose", "q1", sql)
    (both,) = found["together"]
    proposed = {r["id"]: r for r in found["remedies"] if not r["alternative"]}
    assert len(both["remedies"]) == 2 and set(both["remedies"]) <= set(proposed)
    alone = [
        prediction["cost_predicted"]
        for each in both["remedies"]
        for prediction in proposed[each]["queries"]
        if prediction["id"] == both["query"]
    ]
    assert both["cost_predicted"] * 5 < min(alone) < both["cost_before"]
    told = " ".join(begun.ok("propose", "q1", sql).out.split())
    assert f"{both['query']} with {' and '.join(both['remedies'])} at once" in told
