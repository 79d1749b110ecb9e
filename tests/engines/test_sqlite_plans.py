"""Plans of a real file: every statement has one, and a copy without rows has the same."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

import pytest

from humble_ledger.core.plans.model import SCANS, Node, Operation, Role
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.facts import IndexKey, TableName
from humble_ledger.core.statements.conditions import predicates
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import ExplainOptions, Hollow, Limits
from humble_ledger.engines.sqlite.engine import SqliteEngine
from humble_ledger.engines.sqlite.session import SqliteSession

STATEMENTS = [
    "SELECT * FROM reading WHERE id = 5",
    "SELECT id FROM reading r WHERE r.sensor_id = 5 AND taken_at BETWEEN '2026-03' AND '2026-04'",
    "SELECT count(*), max(taken_at) FROM reading WHERE sensor_id = 3",
    "SELECT sensor_id, count(*) FROM reading GROUP BY 1 HAVING count(*) > 20 ORDER BY 2 LIMIT 5",
    "SELECT DISTINCT quality FROM reading",
    "SELECT * FROM loud WHERE code = 'S0007'",
    "SELECT * FROM sensor WHERE code = 'S0007' OR kind = 'wave'",
    "SELECT s.id FROM sensor s WHERE EXISTS (SELECT 1 FROM reading r WHERE r.sensor_id = s.id)",
    "SELECT (SELECT max(taken_at) FROM reading r WHERE r.sensor_id = s.id) FROM sensor s",
    "SELECT * FROM sensor WHERE id NOT IN (SELECT sensor_id FROM reading WHERE quality = 2)",
    "WITH x AS (SELECT sensor_id, max(id) m FROM reading GROUP BY 1) SELECT r.* FROM reading r "
    "JOIN x ON x.m = r.id",
    "WITH RECURSIVE n(v) AS (SELECT 1 UNION ALL SELECT v + 1 FROM n WHERE v < 9) SELECT v FROM n",
    "SELECT id FROM reading WHERE quality = 1 UNION SELECT id FROM sensor ORDER BY 1 LIMIT 3",
    "SELECT * FROM (SELECT r.*, row_number() OVER (PARTITION BY sensor_id ORDER BY id) k "
    "FROM reading r) WHERE k < 3",
    "SELECT * FROM sensor LEFT JOIN keeper USING (kind)",
    "SELECT * FROM keeper WHERE name = 'k5'",
    "SELECT value FROM json_each('[1,2]')",
    "SELECT 1",
    "VALUES (1, 2), (3, 4)",
    "UPDATE reading SET quality = 1 WHERE sensor_id = 3",
    "DELETE FROM reading WHERE taken_at < '2026-02'",
    "INSERT INTO keeper SELECT code, kind FROM sensor WHERE kind = 'wave'",
    "REPLACE INTO keeper VALUES ('a', 'b')",
    "SELECT * FROM reading WHERE sensor_id = ? AND quality > ?2",
    "SELECT * FROM reading WHERE sensor_id = $1 LIMIT $2",
    "SELECT * FROM reading NOT INDEXED WHERE sensor_id = :sensor",
]


@dataclass(frozen=True)
class Ground:
    session: SqliteSession
    hollow: Hollow

    def plan(self, sql: str) -> Node:
        return self.session.explain(Statement(sql)).plan.root


@pytest.fixture(scope="module", params=["analyzed", "not analyzed"])
def ground(
    tmp_path_factory: pytest.TempPathFactory, request: pytest.FixtureRequest
) -> Iterator[Ground]:
    path = tmp_path_factory.mktemp("plans") / "app.db"
    fill(path)
    if request.param == "analyzed":
        with closing(sqlite3.connect(path)) as connection:
            connection.execute("ANALYZE")
            connection.commit()
    engine = SqliteEngine()
    session = engine.connect(str(path), Limits()).session()
    with engine.connect(str(path), Limits()).hollow() as hollow:
        yield Ground(session, hollow)
    session.close()


def fill(path: Path) -> None:
    with closing(sqlite3.connect(path)) as connection:
        connection.executescript(
            """
            CREATE TABLE sensor (id INTEGER PRIMARY KEY, code TEXT COLLATE NOCASE, kind TEXT);
            CREATE TABLE reading (id INTEGER PRIMARY KEY, sensor_id INTEGER REFERENCES sensor,
                taken_at TEXT, quality INTEGER, value REAL, note TEXT);
            CREATE TABLE keeper (name TEXT PRIMARY KEY, kind TEXT) WITHOUT ROWID;
            CREATE INDEX reading_sensor ON reading (sensor_id, taken_at);
            CREATE INDEX sensor_code ON sensor (code);
            CREATE INDEX reading_bad ON reading (taken_at) WHERE quality = 2;
            CREATE VIEW loud AS SELECT r.id, s.code FROM reading r JOIN sensor s
                ON s.id = r.sensor_id WHERE r.quality = 2;
            """
        )
        connection.executemany(
            "INSERT INTO sensor VALUES (?, ?, ?)",
            ((n, f"s{n:04}", ("wave", "wind", "salt")[n % 3]) for n in range(1, 301)),
        )
        connection.executemany(
            "INSERT INTO reading VALUES (?, ?, ?, ?, ?, ?)",
            (
                (n, n * 7 % 300 + 1, f"2026-{n % 9 + 1:02}-{n % 28 + 1:02}",
                 2 if n % 50 == 0 else n % 2, n / 3, f"Note {n % 5000}")
                for n in range(1, 30_001)
            ),
        )  # fmt: skip
        connection.executemany(
            "INSERT INTO keeper VALUES (?, ?)", ((f"k{n}", "wave") for n in range(200))
        )
        connection.commit()


@pytest.mark.parametrize("sql", STATEMENTS)
def test_every_statement_has_a_plan_and_a_copy_without_rows_the_same(
    ground: Ground, sql: str
) -> None:
    found = ground.session.explain(Statement(sql))
    plan = found.plan
    assert plan.cost_total is not None and plan.cost_total > 0
    assert [node.no for node in plan.nodes()] == list(range(1, len(list(plan.nodes())) + 1))
    again = ground.hollow.explain(Statement(sql), {}).plan
    assert again == plan
    form = SqliteEngine().plans
    assert form.read(found.document) == plan
    masked = form.read(form.masked(found.document))
    assert [n.label for n in masked.nodes()] == [n.label for n in plan.nodes()]
    for node in plan.nodes():
        if node.operation in SCANS:
            assert ground.session.tables([TableName(node.schema, node.relation)])


@pytest.mark.parametrize(
    ("sql", "seen"),
    [
        ("SELECT * FROM reading WHERE sensor_id = 7", 100),
        ("SELECT * FROM reading WHERE quality = 2", 600),
        ("SELECT * FROM reading WHERE id BETWEEN 1000 AND 1999", 1_000),
        ("SELECT * FROM reading WHERE note = 'Note 77'", 6),
        (
            "SELECT r.id FROM reading r JOIN sensor s ON s.id = r.sensor_id WHERE s.kind = 'wave'",
            10_000,
        ),
        ("SELECT sensor_id FROM reading GROUP BY sensor_id", 300),
        ("SELECT DISTINCT quality FROM reading", 3),
    ],
)
def test_rows_expected_are_near_those_that_come(ground: Ground, sql: str, seen: int) -> None:
    found = ground.session.explain(Statement(sql), ExplainOptions(measure=True)).plan
    assert found.root.rows_seen == seen
    assert seen / 3 <= (found.root.rows_expected or 0) <= seen * 3


def test_conditions_stand_at_the_step_that_tests_them(ground: Ground) -> None:
    root = ground.plan(
        "SELECT 1 FROM reading r JOIN sensor s ON s.id = r.sensor_id AND s.kind = 'wave' "
        "WHERE r.sensor_id = 5 AND r.value > 3 AND lower(r.note) = 'x'"
    )
    texts = [text for node in root.walk() for text in node.conditions.all()]
    assert len(texts) == len(set(texts)) == 5
    (scan,) = [node for node in root.walk() if node.relation == "reading"]
    assert scan.conditions.search == ("(r.sensor_id = 5)",)
    assert len(scan.conditions.filter) == 2
    assert all(predicates(text) for text in texts)


@pytest.mark.parametrize(
    ("sql", "text"),
    [
        ("SELECT 1 FROM sensor WHERE kind LIKE 'wa%'",
         "(sensor.kind LIKE 'wa%' COLLATE \"nocase\")"),
        ("SELECT 1 FROM reading WHERE note GLOB 'No*'", "(reading.note GLOB 'No*')"),
        ("SELECT 1 FROM reading WHERE note = 'x' COLLATE NOCASE",
         "(reading.note = 'x' COLLATE \"nocase\")"),
        ("SELECT 1 FROM reading WHERE quality IS 2 AND 1", "(reading.quality = 2)"),
    ],
)  # fmt: skip
def test_comparisons_say_by_which_order_they_are_made(ground: Ground, sql: str, text: str) -> None:
    assert text in [t for node in ground.plan(sql).walk() for t in node.conditions.all()]


def test_a_text_compared_with_a_number_is_shown_as_converted(ground: Ground) -> None:
    root = ground.plan("SELECT 1 FROM reading r JOIN sensor s ON s.code = r.quality")
    joined = [t for node in root.walk() for t in node.conditions.all()]
    assert any("CAST(s.code AS" in text for text in joined)


def test_an_automatic_index_is_a_step_with_the_scan_it_is_made_from(ground: Ground) -> None:
    root = ground.plan("SELECT 1 FROM sensor s JOIN reading r ON r.note = s.kind")
    built = [n for n in root.walk() if n.label == "AUTOMATIC INDEX"]
    for node in built:
        assert (
            node.operation is Operation.HASH and node.children[0].operation is Operation.FULL_SCAN
        )
    assert built


def test_a_sub_query_costs_as_often_as_it_is_asked(ground: Ground) -> None:
    once = ground.plan("SELECT * FROM sensor WHERE id = (SELECT max(sensor_id) FROM reading)")
    each = ground.plan(
        "SELECT s.*, (SELECT count(*) FROM reading r WHERE r.note = s.kind) FROM sensor s"
    )
    assert {n.role for n in once.walk() if n.subplan_name} == {Role.INIT_PLAN}
    assert {n.role for n in each.walk() if n.subplan_name} == {Role.SUBPLAN}
    (inner,) = [n for n in each.walk() if n.subplan_name]
    assert each.cost is not None and inner.cost is not None
    assert each.cost.total > 250 * inner.cost.total


def test_a_supposed_index_is_taken_and_forgotten(ground: Ground) -> None:
    statement = Statement("SELECT * FROM reading WHERE note = 'Note 77'")
    design = IndexDesign(TableName("", "reading"), (IndexKey("note"),))
    facts = ground.session.tables([design.table])[design.table]
    shape = ground.session.costs.sizes.in_order(facts, [facts.columns["note"]])
    now = ground.session.explain(statement).plan
    supposed = ground.hollow.explain(statement, {design: shape}).plan
    (name,) = ground.hollow.names({design: shape})
    assert supposed.uses_index(name) and (supposed.cost_total or 0) < (now.cost_total or 0) / 50
    assert ground.hollow.explain(statement, {}).plan == now
    without = ground.hollow.explain(
        Statement("SELECT * FROM reading WHERE sensor_id = 5"),
        {},
        without=[TableName("", "reading_sensor")],
    ).plan
    assert without.root.walk() and not without.uses_index("reading_sensor")
    grown = ground.hollow.explain(statement, {}, rows={design.table: 10.0}).plan
    assert grown.cost_total == pytest.approx(10 * (now.cost_total or 0), rel=0.05)
