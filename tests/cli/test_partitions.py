"""Tables in partitions: one index on the whole table, proposed, tried, kept, and audited."""

from __future__ import annotations

import re
from collections.abc import Iterator

import psycopg
import pytest

from tests.conftest import Server
from tests.program import Program

TABLES = """
DROP TABLE IF EXISTS passage, crossing CASCADE;
CREATE TABLE passage (day date NOT NULL, ship integer NOT NULL, code text NOT NULL)
    PARTITION BY RANGE (day);
CREATE TABLE passage_1 PARTITION OF passage FOR VALUES FROM ('2025-01-01') TO ('2025-07-01');
CREATE TABLE "passage 2" PARTITION OF passage FOR VALUES FROM ('2025-07-01') TO ('2026-01-01');
CREATE TABLE crossing (day date NOT NULL, ship integer NOT NULL) PARTITION BY RANGE (day);
CREATE TABLE crossing_1 PARTITION OF crossing FOR VALUES FROM ('2025-01-01') TO ('2026-01-01')
    PARTITION BY HASH (ship);
CREATE TABLE crossing_1a PARTITION OF crossing_1 FOR VALUES WITH (MODULUS 2, REMAINDER 0);
CREATE TABLE crossing_1b PARTITION OF crossing_1 FOR VALUES WITH (MODULUS 2, REMAINDER 1);
INSERT INTO passage SELECT date '2025-01-01' + n % 365, n % 5000, 'P' || n % 9000
    FROM generate_series(1, 30000) n;
INSERT INTO crossing SELECT date '2025-01-01' + n % 365, n % 5000 FROM generate_series(1, 30000) n;
ANALYZE passage; ANALYZE crossing;
"""
INDEXES = "SELECT count(*) FROM pg_index WHERE indrelid::regclass::text ~ 'passage|crossing'"


@pytest.fixture
def parted(server: Server, begun: Program) -> Iterator[Program]:
    server.do(TABLES)
    yield begun
    server.do("DROP TABLE passage, crossing")


@pytest.mark.parametrize(
    ("table", "parts", "statements"), [("passage", 2, 5), ("crossing", 2, 1)]
)  # fmt: skip
def test_one_index_for_all_partitions(
    server: Server, parted: Program, table: str, parts: int, statements: int
) -> None:
    text = f"SELECT * FROM {table} WHERE ship = 77"
    remedy = parted.json("propose", text)["remedies"][0]
    assert re.search(rf"ON {table} \(ship\);$", remedy["apply"][0])
    said = parted.json("trial", text, "--remedy", remedy["id"])
    (query,) = said["queries"]
    assert query["uses_change"] is True and query["same_result"] is True
    (predicted,) = said["predicted"]
    assert query["after"]["cost"] == pytest.approx(predicted["cost_predicted"], rel=0.05)
    assert said["size_bytes"] == pytest.approx(remedy["size_bytes_predicted"], rel=0.1)
    assert server.fetch(INDEXES) == [(0,)]
    # The migration runs as it stands, and back again; writers wait only where they must.
    parted.ok("settle", said["id"], "keep", "--reason", "it is wanted")
    (forward,) = parted.folder.glob("migrations/*.forward.sql")
    (backward,) = parted.folder.glob("migrations/*.backward.sql")
    made = [s for s in _statements(forward.read_text()) if "INDEX" in s]
    assert len(made) == statements
    assert sum("CONCURRENTLY" in s for s in made) == (parts if statements > 1 else 0)
    with psycopg.connect(server.url, autocommit=True) as connection:
        for statement in _statements(forward.read_text()):
            connection.execute(statement.encode())
        valid = connection.execute(
            "SELECT bool_and(indisvalid) FROM pg_index WHERE indrelid::regclass::text "
            "~ 'passage|crossing'"
        ).fetchone()
        assert valid == (True,)
        (kept,) = parted.json("audit")["promises"]
        assert kept["standing"] == "held", kept
        for statement in _statements(backward.read_text()):
            connection.execute(statement.encode())
    assert server.fetch(INDEXES) == [(0,)]


def test_an_index_of_the_whole_is_not_removed_part_by_part(server: Server, parted: Program) -> None:
    server.do("CREATE INDEX ON passage (code); CREATE INDEX ON passage (code, ship)")
    named = [s["summary"] for s in parted.json("diagnose", "--schema")["symptoms"]]
    assert not [words for words in named if words.startswith(("passage_1_", '"passage 2_'))]
    assert any(words.startswith("passage_code_idx ") for words in named)
    removed = [r["summary"] for r in parted.json("propose", "--type", "removal")["remedies"]]
    assert not [words for words in removed if "passage" in words]


def test_an_index_of_some_rows_is_as_large_as_all_its_parts(parted: Program) -> None:
    text = "SELECT * FROM passage WHERE code = 'P77'"
    index = "passage (code) WHERE ship < 500"
    (supposed,) = parted.json("suppose", text, "--index", index)["indexes"]
    said = parted.json("trial", text, "--index", index, "--pairs", "2")
    assert supposed["size_bytes_predicted"] == pytest.approx(said["size_bytes"], rel=0.25)


def test_what_is_kept_can_be_made_at_once(server: Server, parted: Program) -> None:
    text = "SELECT * FROM passage WHERE code = 'P77'"
    said = parted.json("trial", text, "--index", "passage (code)", "--pairs", "2")
    out = parted.ok("settle", said["id"], "keep", "--reason", "wanted", "--apply").out
    assert "the plan uses it" in out and out.count("ATTACH PARTITION") == 2
    found = server.fetch("SELECT indexdef FROM pg_indexes WHERE tablename = 'passage'")
    assert [str(row[0]).split(" USING ")[1] for row in found] == ["btree (code)"]


def test_a_partitioned_table_has_what_its_partitions_have(parted: Program) -> None:
    facts = parted.json("table", "passage")
    assert facts["size_bytes"] > 30_000 * 30 and facts["rows_estimated"] == 30_000
    ship = next(c for c in facts["columns"] if c["name"] == "ship")
    assert 4_000 < ship["distinct"] < 6_000


def _statements(script: str) -> list[str]:
    lines = [line for line in script.splitlines() if line and not line.startswith("--")]
    return [part.strip() for part in "\n".join(lines).split(";\n") if part.strip()]
