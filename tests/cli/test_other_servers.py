"""Servers that speak PostgreSQL's protocol and are others: by a stand-in on the wire."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from pathlib import Path

import pytest

from tests.engines.wire import Answer, WireServer
from tests.program import Program

FIXTURES = Path(__file__).parents[1] / "fixtures" / "elsewhere" / "cockroachdb"
SQL = "SELECT taken_at, value FROM reading WHERE sensor_id = 77"


def lines(text: str) -> Answer:
    return ("info",), [(line,) for line in text.splitlines()]


def rows(columns: str, *found: Sequence[str | None]) -> Answer:
    return tuple(columns.split()), found


CATALOGUE: list[tuple[str, Answer]] = [
    (r"information_schema\.tables", rows("table_schema table_name", ("public", "reading"),
                                         ("crdb_internal", "jobs"))),
    (r"information_schema\.columns", rows(
        "table_schema table_name column_name data_type is_nullable ordinal_position",
        ("public", "reading", "reading_id", "bigint", "NO", "1"),
        ("public", "reading", "sensor_id", "bigint", "NO", "2"),
        ("public", "reading", "taken_at", "timestamptz", "NO", "3"),
        ("public", "reading", "value", "float8", "NO", "4"))),
    (r"information_schema\.statistics", rows(
        "table_schema table_name index_name non_unique seq_in_index column_name direction storing "
        "implicit",
        ("public", "reading", "reading_pkey", "NO", "1", "reading_id", "ASC", "NO", "NO"))),
]  # fmt: skip
COCKROACH: list[tuple[str, Answer]] = [
    (r"^SELECT version\(\)", rows("version", ("CockroachDB CCL v23.2.4 (x86_64-linux-gnu)",))),
    (r"^SELECT current_database", rows("d u", ("feas", "ines"))),
    (r"^SELECT current_schema", rows("s", ("public",))),
    (r"^SHOW transaction_read_only", rows("transaction_read_only", ("on",))),
    (r"^EXPLAIN ANALYZE SELECT 1$", lines("execution time: 1ms\ndistribution: local\n\n"
                                          "• values\n  actual row count: 1")),
    (r"^EXPLAIN SELECT 1$", lines("distribution: local\n\n• values\n  size: 1 column, 1 row")),
    (r"^EXPLAIN ANALYZE ", lines((FIXTURES / "scan-analyze.txt").read_text())),
    (r"^EXPLAIN (?!\()", lines((FIXTURES / "scan-estimated.txt").read_text())),
    *CATALOGUE,
]  # fmt: skip
PLAN = {
    "Plan": {
        "Node Type": "Seq Scan", "Relation Name": "reading", "Alias": "reading", "Schema": "public",
        "Startup Cost": 0.0, "Total Cost": 102.5, "Plan Rows": 1000, "Plan Width": 16,
        "Filter": "(sensor_id = 77)", "Storage Filter": "sent to the tablets",
    }
}  # fmt: skip
TABLETS: list[tuple[str, Answer]] = [
    (r"^SELECT version\(\)", rows("version", ("PostgreSQL 11.2-YB-2.20.1.0-b0 on x86_64",))),
    (r"^SELECT current_database", rows("d u", ("feas", "ines"))),
    (r"^SELECT current_schema", rows("s", ("public",))),
    (r"^EXPLAIN \(FORMAT JSON\)", rows("plan", (json.dumps([PLAN]),))),
    *CATALOGUE,
]


@pytest.fixture
def cockroach() -> Iterator[WireServer]:
    with WireServer("13.0.0", COCKROACH, [r"set_config", r"FORMAT JSON"]).running() as server:
        yield server


@pytest.fixture
def tablets() -> Iterator[WireServer]:
    with WireServer("11.2-YB-2.20.1.0-b0", TABLETS, [r"statistics"]).running() as server:
        yield server


def assert_within_reading(asked: Sequence[str], sql: str) -> None:
    """A user's statement was sent, and never outside of a transaction that only reads."""
    within, sent = False, 0
    for text in asked:
        within = text == "BEGIN READ ONLY" or (within and text != "ROLLBACK")
        if sql in text:
            assert within, text
            sent += 1
    assert sent


def test_reading_and_judging_work_on_a_server_with_another_explain(
    humble: Program, cockroach: WireServer
) -> None:
    target = humble.json("init", cockroach.url)
    assert target["engine"]["name"] == "cockroachdb" and "v23.2.4" in target["engine"]["version"]
    (humble.folder / "app.sql").write_text(f"{SQL};\n")
    assert humble.json("capture", "script", "app.sql")["statements"]
    assert humble.json("plan", "q1")["root"]["relation"] == "reading"
    measured = humble.json("plan", "q1", "--measure")
    assert measured["execution_ms"] == 1300.0
    assert_within_reading(cockroach.asked, SQL)
    (first, *_) = humble.json("diagnose", "q1")["symptoms"]
    assert (first["name"], first["cause"]["name"]) == ("selective-full-scan", "no-index")
    (idea,) = humble.json("propose", "q1")["ideas"]
    assert idea["keys"] == ["sensor_id"]
    assert humble.json("routes", "q1")["routes"]
    assert "reading" in humble.ok("table", "reading").out
    assert humble.json("preflight")["sources"][0]["source"] == "plans"


def test_a_trial_says_that_it_was_not_tried_and_builds_nothing(
    humble: Program, cockroach: WireServer
) -> None:
    humble.ok("init", cockroach.url, "--role", "scratch")
    trial = humble.json("trial", SQL, "--index", "reading (sensor_id)")
    assert trial["verdict"] is None and not trial["queries"]
    assert "is another" in humble.ok("show", trial["id"]).out
    built = [text for text in cockroach.asked if "CREATE" in text.upper()]
    assert built == []


def test_nothing_is_run_where_the_server_does_not_say_that_it_only_reads(
    humble: Program, tablets: WireServer
) -> None:
    target = humble.json("init", tablets.url)
    assert "YB" in target["engine"]["version"]
    plan = humble.json("plan", SQL)
    assert plan["cost_total"] == 102.5
    assert plan["root"]["own_words"]["Storage Filter"] == "sent to the tablets"
    assert_within_reading(tablets.asked, SQL)
    said = humble.fails(4, "plan", SQL, "--measure")
    assert "no EXPLAIN ANALYZE" in said
    assert not [text for text in tablets.asked if "ANALYZE" in text and SQL in text]
    # Its indexes are not told, so that nobody says there is none.
    found = humble.json("diagnose", SQL)["symptoms"]
    assert "no-index" not in [symptom["cause"]["name"] for symptom in found]


@pytest.mark.parametrize(
    ("arguments", "code", "said"),
    [
        (("plan", "SELECT pg_terminate(1)", "--measure"), 5, "pg_terminate"),
        (("plan", "DELETE FROM reading", "--measure"), 5, "changes"),
        (("plan", "SELECT 1; DROP TABLE reading"), 4, "statement"),
        (("capture", "server"), 4, "is another"),
        (("capture", "live", "--for", "1s"), 4, "is another"),
        (("suppose", SQL, "--index", "reading (sensor_id)"), 3, "is another"),
        (("plan", "SELECT $1"), 2, "placeholders"),
    ],
)
def test_what_such_a_server_cannot_be_asked_is_refused_with_a_reason(
    humble: Program, cockroach: WireServer, arguments: tuple[str, ...], code: int, said: str
) -> None:
    humble.ok("init", cockroach.url)
    assert said in humble.fails(code, *arguments)
    assert not [text for text in cockroach.asked if "DROP" in text or "DELETE" in text]


def test_a_server_whose_plans_nobody_can_read_is_refused(humble: Program) -> None:
    answers = [(r"^EXPLAIN", rows("plan", ("a poem about scans",)))]
    with WireServer("14.0", answers, [r"search_path"]).running() as server:
        assert "answers nothing that can be read" in humble.fails(4, "init", server.url)
