"""Symptoms on real servers: each goes when what its cause suggests is really done."""

from __future__ import annotations

import pytest

from tests.conftest import Server
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
