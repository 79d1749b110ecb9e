"""Troubles that only this family of servers has, planted on a real one."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest

from humble_ledger.engines.mysql.launcher import MariaCluster
from tests.conftest import Maria
from tests.program import Program

pytestmark = pytest.mark.xdist_group("mariadb")
ROWS = 60_000
SCHEMA = f"""
CREATE DATABASE pier CHARACTER SET utf8mb4
CREATE TABLE pier.stay (id INT PRIMARY KEY AUTO_INCREMENT, state VARCHAR(10), agent VARCHAR(40),
  ship INT, fee INT, words VARCHAR(300), KEY by_state (state), KEY by_agent (agent),
  KEY begins (agent(4)))
INSERT INTO pier.stay SELECT seq, IF(seq % 300, 'open', 'disputed'),
  CONCAT('agent ', seq * 31 % 400),
  seq % 9000, seq % 700, REPEAT('word ', 30) FROM seq_1_to_{ROWS}
CREATE TABLE pier.bill (id INT PRIMARY KEY AUTO_INCREMENT, of_stay VARCHAR(12),
  shift VARCHAR(8) CHARACTER SET latin1, total INT, KEY by_stay (of_stay), KEY by_shift (shift))
INSERT INTO pier.bill SELECT seq, seq, CONCAT('s', seq % 5000), seq % 90 FROM seq_1_to_{ROWS}
CREATE TABLE pier.shift (code VARCHAR(8) PRIMARY KEY, foreman VARCHAR(40))
INSERT INTO pier.shift SELECT CONCAT('s', seq), CONCAT('foreman ', seq % 60) FROM seq_1_to_5000
CREATE TABLE pier.by_chance (id CHAR(36) PRIMARY KEY, ship INT, KEY by_ship (ship))
INSERT INTO pier.by_chance SELECT CONCAT(LEFT(MD5(seq), 8), '-', MID(MD5(seq), 9, 4), '-4',
  MID(MD5(seq), 14, 3), '-a', MID(MD5(seq), 18, 3), '-', RIGHT(MD5(seq), 12)), seq
  FROM seq_1_to_12000
CREATE TABLE pier.by_bytes (id BINARY(16) PRIMARY KEY, ship INT)
INSERT INTO pier.by_bytes SELECT UNHEX(REPLACE(id, '-', '')), ship FROM pier.by_chance
CREATE TABLE pier.by_time (id CHAR(36) PRIMARY KEY, ship INT)
INSERT INTO pier.by_time SELECT CONCAT(LPAD(HEX(seq), 8, '0'), '-0000-7', MID(id, 16, 21)), seq
  FROM pier.by_chance JOIN seq_1_to_12000 ON seq = ship
CREATE TABLE pier.by_code (id CHAR(36) PRIMARY KEY, ship INT)
INSERT INTO pier.by_code SELECT REPLACE(MD5(ship), '4', 'x'), ship FROM pier.by_chance
CREATE TABLE pier.berth (id INT PRIMARY KEY, spot POINT NOT NULL, words VARCHAR(90) NOT NULL,
  made DATETIME NOT NULL, left_at DATETIME NOT NULL, SPATIAL KEY by_spot (spot),
  FULLTEXT KEY by_words (words))
INSERT INTO pier.berth SELECT seq, POINT(seq % 200 / 10, seq DIV 200 / 10),
  CONCAT('sand and rope number', seq % 900), '2025-01-01' + INTERVAL seq * 8 MINUTE,
  '2025-01-01' + INTERVAL seq * 480 + seq % 900 SECOND FROM seq_1_to_{ROWS}
CREATE TABLE pier.mooring (berth INT NOT NULL, no INT NOT NULL, ship INT NOT NULL,
  name VARCHAR(20) NOT NULL, code VARCHAR(20) COLLATE utf8mb4_bin NOT NULL,
  PRIMARY KEY (berth, no), KEY by_code (code))
INSERT INTO pier.mooring SELECT seq, 1, seq * 31 % 8990, CONCAT('ship ', seq), CONCAT('c', seq)
  FROM seq_1_to_{ROWS}
CREATE TABLE pier.tide (id INT PRIMARY KEY, seq INT NOT NULL, KEY seq (seq))
INSERT INTO pier.tide SELECT seq, seq FROM seq_1_to_500
ANALYZE TABLE pier.berth, pier.mooring
ANALYZE TABLE pier.stay, pier.bill, pier.shift, pier.by_chance, pier.by_bytes, pier.by_time,
  pier.by_code
""".strip().replace("\n  ", " ")
LIST = ", ".join(str(number * 7) for number in range(1_500))


@pytest.fixture(scope="module")
def pier(maria: Maria) -> Iterator[str]:
    maria.do("DROP DATABASE IF EXISTS pier")
    for statement in SCHEMA.splitlines():
        maria.do(statement)
    assert isinstance(maria.cluster, MariaCluster)
    yield maria.cluster.url("pier")
    maria.do("DROP DATABASE pier")


@pytest.mark.parametrize(
    ("sql", "symptom", "cause"),
    [
        ("SELECT fee FROM stay WHERE state = 'disputed' AND agent = 'agent 200'",
         "index-merge", "no-composite-index"),
        ("SELECT fee FROM stay FORCE INDEX (begins) WHERE agent LIKE 'agent 3%' "
         "ORDER BY agent LIMIT 20", "sort-without-index", "prefix-index"),
        ("SELECT b.total FROM stay s JOIN bill b ON b.of_stay = s.id WHERE s.ship = 17",
         "join-side-without-index", "type-mismatch"),
        ("SELECT s.foreman, b.total FROM shift s JOIN bill b ON b.shift = s.code "
         "WHERE s.foreman = 'foreman 7'", "join-side-without-index", "collation-mismatch"),
        (f"SELECT fee FROM stay WHERE id IN ({LIST})", "long-in-list", "list-in-the-statement"),
        ("SELECT agent, sum(fee) FROM stay GROUP BY agent",
         "missing-covering-index", "column-not-in-index"),
        ("SELECT id FROM berth WHERE made BETWEEN '2025-03-01' AND '2025-03-02'",
         "selective-full-scan", "no-index"),
        ("SELECT id FROM berth WHERE TIMESTAMPDIFF(SECOND, made, left_at) > 895",
         "selective-full-scan", "function-on-column"),
        ("SELECT name FROM mooring WHERE code = 'C200' COLLATE utf8mb4_general_ci",
         "selective-full-scan", "sort-order-mismatch"),
        ("SELECT m.no FROM berth b JOIN mooring m ON m.name = CONCAT('ship ', b.id) WHERE b.id < 9",
         "join-side-without-index", "no-index"),
        ("SELECT max(made) FROM berth", "full-scan-avoidable", "no-index"),
        ("SELECT code FROM shift s WHERE foreman = 'foreman 7' AND NOT EXISTS (SELECT 1 FROM "
         "mooring m WHERE m.name = s.code)", "full-scan-avoidable", "no-index"),
    ],
)  # fmt: skip
def test_planted_troubles_are_found_with_their_cause(
    pier: str, humble: Program, sql: str, symptom: str, cause: str
) -> None:
    humble.ok("init", pier, "--role", "scratch")
    found = {s["name"]: s["cause"]["name"] for s in humble.json("diagnose", sql)["symptoms"]}
    assert found.get(symptom) == cause, found


def test_rows_kept_in_the_order_of_random_keys_are_told(pier: str, humble: Program) -> None:
    humble.ok("init", pier, "--role", "scratch")
    found = humble.json("diagnose", "--schema")["symptoms"]
    keyed = {s["subject"]: s for s in found if s["name"] == "random-primary-key"}
    assert set(keyed) == {"by_chance.id", "by_bytes.id"}
    told = keyed["by_chance.id"]
    assert told["cause"]["name"] == "key-drawn-by-chance"
    assert "the other index holds its 36 bytes for each row again" in told["cause"]["detail"]
    assert keyed["by_bytes.id"]["evidence"]["key_bytes"] == 16
    assert "fills page after page" in keyed["by_bytes.id"]["cause"]["detail"]


@pytest.mark.parametrize(
    "sql",
    [
        "SELECT fee FROM stay WHERE agent = 'agent 200'",
        "SELECT b.total FROM stay s JOIN bill b ON b.of_stay = CAST(s.id AS CHAR) WHERE s.id = 17",
        "SELECT fee FROM stay WHERE id IN (5, 9, 400)",
        "SELECT id FROM berth WHERE MATCH (words) AGAINST ('number777')",
        "SELECT id FROM berth WHERE MBRContains(ST_GeomFromText('POLYGON((9 9,9 9.3,9.3 9.3,9.3 9,"
        "9 9))'), spot)",
        # A union has a SELECT of its own, which the trace gives no number.
        "SELECT agent FROM stay WHERE id < 90 UNION SELECT agent FROM stay WHERE id < 150 "
        "ORDER BY 1 LIMIT 3",
    ],
)
def test_what_is_right_has_no_finding(pier: str, humble: Program, sql: str) -> None:
    humble.ok("init", pier, "--role", "scratch")
    found = humble.json("diagnose", sql)["symptoms"]
    assert [s["name"] for s in found if not s["harmless"]] == []


def _proposed(program: Program, sql: str, index: str) -> tuple[str, dict[str, Any]]:
    """The remedy with this index, and what is predicted of the statement."""
    remedies = program.json("propose", sql)["remedies"]
    remedy = next(each for each in remedies if index in each["summary"])
    (predicted,) = remedy["queries"]
    return str(remedy["id"]), predicted


@pytest.mark.parametrize(
    ("sql", "index"),
    [
        ("SELECT max(made) FROM berth", "berth (made)"),
        ("SELECT min(fee) FROM stay WHERE state = 'open'", "stay (state, fee)"),
        ("SELECT id FROM bill WHERE id < 100 AND id NOT IN (SELECT ship FROM mooring)",
         "mooring (ship)"),
    ],
)  # fmt: skip
def test_what_the_server_tells_no_index_of_is_predicted_and_seen_when_tried(
    pier: str, humble: Program, sql: str, index: str
) -> None:
    """The ends of an index are read before there is a plan, and NOT IN once for each value."""
    humble.ok("init", pier, "--role", "scratch")
    remedy, predicted = _proposed(humble, sql, index)
    assert predicted["cost_predicted"] < predicted["cost_before"] / 1.3
    (tried,) = humble.json("trial", sql, "--remedy", remedy, "--pairs", "2")["queries"]
    assert tried["uses_change"] and tried["same_result"]
    assert tried["after"]["cost"] == pytest.approx(predicted["cost_predicted"], rel=0.25)


@pytest.mark.parametrize(
    ("sql", "index"),
    [
        # MariaDB prices one row of an order as if the first that it reads were the one.
        ("SELECT words FROM stay WHERE ship = 4711 ORDER BY agent LIMIT 1", "stay (ship"),
        # Its rows are found first, and then changed.
        ("UPDATE mooring SET ship = 1 WHERE ship = 4711 AND no < 9", "mooring (ship"),
    ],
)  # fmt: skip
def test_what_is_cheap_by_the_servers_word_alone_gets_its_index(
    pier: str, humble: Program, sql: str, index: str
) -> None:
    humble.ok("init", pier, "--role", "scratch")
    _, predicted = _proposed(humble, sql, index)
    assert predicted["cost_before"] > 1_000
    assert 0 < predicted["cost_predicted"] < predicted["cost_before"] / 10


def test_an_index_that_is_called_as_its_column_is_named(pier: str, humble: Program) -> None:
    humble.ok("init", pier, "--role", "scratch")
    told = humble.ok("plan", "SELECT max(seq) FROM tide").out
    assert "Select tables optimized away by seq" in told
