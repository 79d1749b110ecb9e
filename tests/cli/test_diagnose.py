"""Symptoms on real servers: each goes when what its cause suggests is really done."""

from __future__ import annotations

import json

import pytest

from tests.conftest import Server, only_newest
from tests.program import Program

# The faulty statement, its first symptom, and the statement as its cause suggests it.
CURED_BY_REWRITE = [
    (
        "SELECT count(*) FROM alert a, visit v WHERE a.kind = 'ice' AND a.status = 'open' "
        "AND v.minutes > 250",
        "untied-join",
        "SELECT count(*) FROM alert a, visit v WHERE a.kind = 'ice' AND a.status = 'open' "
        "AND v.minutes > 250 AND v.buoy_id = a.buoy_id",
    ),
    (
        "SELECT b.name, (SELECT max(a.raised_at) FROM alert a WHERE a.buoy_id = b.buoy_id) "
        "FROM buoy b WHERE b.region_id < 4",
        "subquery-per-row",
        "SELECT b.name, l.last FROM buoy b LEFT JOIN (SELECT buoy_id, max(raised_at) AS last "
        "FROM alert GROUP BY buoy_id) l USING (buoy_id) WHERE b.region_id < 4",
    ),
    (
        "SELECT alert_id, message FROM alert ORDER BY alert_id LIMIT 20 OFFSET 50000",
        "deep-paging",
        "SELECT alert_id, message FROM alert WHERE alert_id > 50000 ORDER BY alert_id LIMIT 20",
    ),
    (
        "SELECT DISTINCT b.name FROM buoy b JOIN alert a USING (buoy_id) JOIN visit v USING "
        "(buoy_id) WHERE a.status = 'open'",
        "distinct-hides-fan-out",
        "SELECT b.name FROM buoy b WHERE EXISTS (SELECT 1 FROM alert a WHERE a.buoy_id = "
        "b.buoy_id AND a.status = 'open') AND EXISTS (SELECT 1 FROM visit v WHERE v.buoy_id = "
        "b.buoy_id)",
    ),
    (
        "SELECT b.buoy_id, b.name, sum(r.value) FROM reading r JOIN buoy b ON b.buoy_id = "
        "r.buoy_id GROUP BY b.buoy_id, b.name",
        "aggregation-after-join",
        "SELECT b.buoy_id, b.name, r.total FROM (SELECT buoy_id, sum(value) AS total FROM reading "
        "GROUP BY buoy_id) r JOIN buoy b ON b.buoy_id = r.buoy_id",
    ),
]  # fmt: skip
# Statements that look like one of those and are right.
LOOK_ALIKES = [
    ("untied-join", "SELECT count(*) FROM region r, (SELECT max(minutes) AS m FROM visit) x"),
    ("untied-join", "SELECT r.name, n FROM region r CROSS JOIN generate_series(1, 3) n"),
    ("subquery-per-row", "SELECT count(*) FROM alert WHERE buoy_id IN (SELECT buoy_id FROM buoy)"),
    (
        "subquery-per-row",
        "SELECT name, (SELECT count(*) FROM keeper k WHERE k.region_id = r.region_id) "
        "FROM region r WHERE region_id < 3",
    ),
    ("deep-paging", "SELECT alert_id FROM alert ORDER BY alert_id LIMIT 20 OFFSET 40"),
    ("deep-paging", "SELECT alert_id FROM alert ORDER BY alert_id LIMIT 5000"),
    ("distinct-hides-fan-out", "SELECT DISTINCT kind FROM alert"),
    (
        "distinct-hides-fan-out",
        "SELECT DISTINCT a.kind, b.name FROM alert a JOIN buoy b USING (buoy_id)",
    ),
    ("aggregation-after-join", "SELECT buoy_id, avg(value) FROM reading GROUP BY buoy_id"),
    (
        "aggregation-after-join",
        "SELECT b.name, a.kind, count(*) FROM alert a JOIN buoy b USING (buoy_id) GROUP BY 1, 2",
    ),
    ("index-from-its-wrong-end", "SELECT * FROM alert WHERE sensor_id = 9 AND code = 'E-1417'"),
    ("index-scan-discards-most", "SELECT count(*) FROM alert WHERE alert_id < 90 AND kind = 'ice'"),
]


def names(begun: Program, sql: str) -> list[str]:
    return [s["name"] for s in begun.json("diagnose", sql, "--measure")["symptoms"]]


@pytest.mark.parametrize(("faulty", "symptom", "cured"), CURED_BY_REWRITE, ids=lambda v: v[:24])
def test_a_fault_is_named_first_and_gone_when_rewritten(
    begun: Program, server: Server, faulty: str, symptom: str, cured: str
) -> None:
    (first, *_) = begun.json("diagnose", faulty, "--measure")["symptoms"]
    assert first["name"] == symptom
    assert first["cause"]["detail"]
    assert symptom not in names(begun, cured)


@pytest.mark.parametrize(("symptom", "sql"), LOOK_ALIKES, ids=lambda v: v[:24])
def test_what_only_looks_like_a_fault_is_left_alone(
    begun: Program, server: Server, symptom: str, sql: str
) -> None:
    assert symptom not in names(begun, sql)


def test_the_wrong_end_of_an_index_is_cured_by_one_that_begins_there(
    begun: Program, server: Server
) -> None:
    sql = "SELECT alert_id FROM alert WHERE code = 'E-1417'"
    found = begun.json("diagnose", sql, "--measure")["symptoms"]
    assert [s["cause"]["name"] for s in found] == ["wrong-end-of-index"]
    server.do("CREATE INDEX tried_code ON alert (code)")
    try:
        assert names(begun, sql) == []
    finally:
        server.do("DROP INDEX tried_code")


def test_estimates_alone_show_deep_pages_and_sub_queries(begun: Program, server: Server) -> None:
    for faulty, symptom, _ in CURED_BY_REWRITE[1:4]:
        found = begun.json("diagnose", faulty)["symptoms"]
        assert symptom in [s["name"] for s in found], found
        assert all(s["cost_ms"] is None for s in found)


def test_small_matters_are_left_out_until_asked_for(begun: Program, server: Server) -> None:
    few, all_ = begun.ok("diagnose"), begun.ok("diagnose", "--all")
    assert "more below 1 % of the captured time; --all shows them." in few.out
    assert "more below" not in all_.out
    assert len(all_.out.splitlines()) > len(few.out.splitlines())
    assert few.out.index("The captured queries together") < few.out.index("The schema")
    found = begun.json("diagnose")
    assert found["captured_ms"] > 0
    assert found["probes"] > 0
    assert "not measured" in found["unknown"][0]
    names = [s["name"] for s in found["symptoms"]]
    assert "time-in-few-queries" in names
    assert "questions in" in begun.ok("diagnose", "q1", "--verbose").out


def test_a_symptom_found_again_keeps_its_id_and_gets_new_figures(
    begun: Program, server: Server
) -> None:
    query = begun.query_with("code = $1")
    plan = begun.json("plan", query, "--measure")["id"]
    first = begun.json("diagnose", plan)["symptoms"]
    assert [s["id"] for s in begun.json("diagnose", plan)["symptoms"]] == [s["id"] for s in first]


@only_newest
def test_a_saved_plan_is_judged_without_a_server(humble: Program, server: Server) -> None:
    sql = "SELECT count(*) FROM alert WHERE date_trunc('day', raised_at) = '2026-05-02'"
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
    assert begun.json("compare", before["id"], after["id"])


@only_newest
def test_the_schema_alone_and_what_is_wrong_with_it(begun: Program, server: Server) -> None:
    server.do("CREATE TABLE tried AS SELECT * FROM alert")
    try:
        server.do("CREATE INDEX tried_one ON tried (code)")
        server.do("CREATE INDEX tried_two ON tried (code)")
        server.do("CREATE INDEX tried_unused ON tried (kind, crew)")
        server.fetch("SELECT count(message) FROM tried")
        found = begun.json("diagnose", "--schema")["symptoms"]
        mine = {(s["name"], s["subject"]) for s in found if s["subject"].startswith("tried")}
        assert mine == {
            ("repeated-index", "tried.tried_two"),
            ("unused-index", "tried.tried_one"),
            ("unused-index", "tried.tried_unused"),
            ("statistics-missing", "tried"),
        }
        server.do("ANALYZE tried")
        server.do("UPDATE tried SET status = 'seen' WHERE alert_id % 5 = 0")
        again = {s["name"] for s in begun.json("diagnose", "--schema")["symptoms"]}
        assert "statistics-stale" in again
        assert "statistics-missing" not in again
        assert all(s["cost_ms"] is None for s in found)
    finally:
        server.do("DROP TABLE tried")


@only_newest
def test_what_cannot_be_judged_does_not_hide_the_rest(begun: Program, server: Server) -> None:
    found = begun.json("diagnose", "q1", "SELECT nothing FROM nowhere")
    (refused,) = found["not_judged"]
    assert "nowhere" in refused["reason"]
    assert found["symptoms"]
    assert "Not judged: SELECT 1 FROM" in begun.ok("diagnose", "q1", "SELECT 1 FROM nowhere").out
