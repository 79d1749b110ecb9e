"""DuckDB's plans by the real program: what its steps count against what its statements return."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import duckdb
import pytest

from humble_ledger.core.plans.arithmetic import accounts
from humble_ledger.core.plans.model import JOINS, Operation, Plan
from humble_ledger.workflow.reading.saved import saved_in

STATEMENTS = {
    "group": "SELECT s.kind, count(*), avg(r.v) FROM reading r JOIN sensor s USING (sensor_id) "
    "WHERE r.v > 5 AND s.kind = 'wave' GROUP BY s.kind ORDER BY 2 DESC LIMIT 3",
    "lookup": "SELECT * FROM reading WHERE reading_id = 77",
    "window": "SELECT sensor_id, row_number() OVER (PARTITION BY sensor_id ORDER BY d) n "
    "FROM reading QUALIFY n = 1",
    "inequality": "SELECT count(*) FROM sensor a, sensor b WHERE a.buoy_id < b.buoy_id",
    "cross": "SELECT count(*) FROM sensor a, sensor b",
    "union": "SELECT sensor_id FROM reading WHERE v > 9 UNION SELECT sensor_id FROM alert",
    "subquery": "SELECT a.alert_id, (SELECT max(v) FROM reading r WHERE r.sensor_id = a.sensor_id) "
    "FROM alert a WHERE a.status = 'open'",
    "not exists": "SELECT kind FROM sensor s WHERE NOT EXISTS "
    "(SELECT 1 FROM alert a WHERE a.sensor_id = s.sensor_id AND a.status = 'open')",
    "distinct": "SELECT DISTINCT kind FROM sensor ORDER BY kind",
    "cte": "WITH w AS MATERIALIZED (SELECT sensor_id, avg(v) m FROM reading GROUP BY 1) "
    "SELECT * FROM w x JOIN w y ON x.m = y.m AND x.sensor_id <> y.sensor_id",
    "left": "SELECT s.sensor_id, count(a.alert_id) FROM sensor s LEFT JOIN alert a "
    "ON a.sensor_id = s.sensor_id AND a.status = 'open' GROUP BY 1",
    "pattern": "SELECT count(*) FROM alert WHERE status LIKE '%pen' OR lower(status) = 'x'",
    "nothing": "SELECT * FROM reading WHERE false",
    "sort": "SELECT * FROM reading ORDER BY v, d DESC",
    "odd name": 'SELECT "a b" FROM "odd; name" WHERE "a b" = \'it\'\'s\'',
}


@pytest.fixture(scope="module")
def database() -> Iterator[duckdb.DuckDBPyConnection]:
    with duckdb.connect() as connection:
        for sql in (
            "CREATE TABLE sensor AS SELECT i sensor_id, CASE WHEN i % 3 = 0 THEN 'wave' "
            "ELSE 'wind' END kind, i % 40 buoy_id FROM range(300) t(i)",
            "CREATE TABLE reading AS SELECT i reading_id, i % 300 sensor_id, "
            "(i * 7 % 100) / 10.0 v, DATE '2026-01-01' + (i % 300)::int d FROM range(20000) t(i)",
            "CREATE TABLE alert AS SELECT i alert_id, i % 300 sensor_id, "
            "CASE WHEN i % 50 = 0 THEN 'open' ELSE 'closed' END status FROM range(3000) t(i)",
            "CREATE TABLE \"odd; name\" AS SELECT 'it''s' \"a b\" FROM range(5)",
        ):
            connection.execute(sql)
        yield connection


def plan_of(database: duckdb.DuckDBPyConnection, how: str, sql: str) -> Plan:
    text = database.execute(f"EXPLAIN ({how}) {sql}").fetchall()[0][1]
    saved = saved_in(text)
    assert saved is not None
    return saved.plans[0].plan


@pytest.mark.parametrize("name", STATEMENTS)
def test_a_measured_plan_counts_the_rows_that_come(
    database: duckdb.DuckDBPyConnection, name: str
) -> None:
    sql = STATEMENTS[name]
    plan = plan_of(database, "ANALYZE, FORMAT json", sql)
    assert plan.engine == "duckdb" and plan.measured
    rows = len(database.execute(sql).fetchall())
    # A step that only computes columns may hand rows on without counting them.
    top = plan.root
    while top.rows_seen is None and top.children:
        top = top.children[-1]
    assert rows in (top.rows_seen, 0)
    known = accounts(plan)
    assert all((known[n.no].self_ms or 0) >= 0 for n in plan.nodes())
    read = {n.relation for n in plan.nodes() if n.relation}
    assert all(table in sql for table in read)


@pytest.mark.parametrize("name", STATEMENTS)
def test_an_estimated_plan_has_the_same_tables(
    database: duckdb.DuckDBPyConnection, name: str
) -> None:
    plan = plan_of(database, "FORMAT json", STATEMENTS[name])
    assert not plan.measured
    measured = plan_of(database, "ANALYZE, FORMAT json", STATEMENTS[name])
    assert {n.relation for n in plan.nodes()} == {n.relation for n in measured.nodes()}


def test_joins_filters_and_keys_are_told(database: duckdb.DuckDBPyConnection) -> None:
    plan = plan_of(database, "FORMAT json", STATEMENTS["group"])
    (join,) = [n for n in plan.nodes() if n.operation in JOINS]
    (condition,) = join.conditions.join
    assert "reading.sensor_id" in condition and "sensor.sensor_id" in condition
    scans = {n.relation: n for n in plan.nodes() if n.operation is Operation.FULL_SCAN}
    assert any("5" in text for text in scans["reading"].conditions.filter)
    assert any("'wave'" in text for text in scans["sensor"].conditions.filter)


def test_a_file_of_the_profiler_is_read_with_its_time(
    database: duckdb.DuckDBPyConnection, tmp_path: Path
) -> None:
    file = tmp_path / "profile.json"
    database.execute("PRAGMA enable_profiling = 'json'")
    database.execute(f"PRAGMA profiling_output = '{file}'")
    try:
        database.execute(STATEMENTS["group"]).fetchall()
    finally:
        database.execute("PRAGMA disable_profiling")
    text = file.read_text()
    json.loads(text)
    saved = saved_in(text)
    assert saved is not None
    plan = saved.plans[0].plan
    assert plan.measured and plan.execution_ms and plan.execution_ms > 0
    assert "avg(r.v)" in saved.plans[0].statement
