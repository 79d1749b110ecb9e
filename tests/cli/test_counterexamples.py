"""Rewritten statements held against small databases on a copy of a real server's schema."""

from __future__ import annotations

from collections.abc import Iterator

import psycopg
import pytest

from humble_ledger.core.remedies.counterexamples.model import Search
from humble_ledger.core.remedies.counterexamples.searching import Pair
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.workflow.configuration import find_configuration
from humble_ledger.workflow.supposing import counterexamples
from humble_ledger.workflow.supposing.counterexamples import counterexample
from humble_ledger.workflow.workspace import Workspace
from tests.conftest import Server, only_newest
from tests.program import Program

# Nobody's schema but this test's: types, constraints and references of many kinds.
SCHEMA = """
CREATE TYPE swell AS ENUM ('calm', 'rough', 'wild');
CREATE DOMAIN depth AS integer CHECK (VALUE > 0);
CREATE TABLE pier (pier_id int PRIMARY KEY, label text NOT NULL, bay text, built date);
CREATE TABLE mooring (mooring_id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    pier_id int REFERENCES pier, code varchar(8) NOT NULL, load numeric(8,2) CHECK (load >= 0),
    used_at timestamptz, swell swell DEFAULT 'calm', tags text[], price float, below depth,
    doubled numeric GENERATED ALWAYS AS (load * 2) STORED);
CREATE TABLE stay (stay_id int PRIMARY KEY, mooring_id bigint NOT NULL REFERENCES mooring,
    skipper text, due date, left_on date);
CREATE TABLE barred (skipper text, since date);
INSERT INTO pier SELECT n, 'pier ' || n, 'bay ' || n % 10, date '2020-01-01' + n
    FROM generate_series(1, 200) n;
INSERT INTO mooring (pier_id, code, load, used_at, price)
    SELECT 1 + n % 200, 'c' || n % 5000, n % 300, timestamptz '2026-01-01' + n * interval '7 min',
    n * 0.37 FROM generate_series(1, 30000) n;
INSERT INTO stay SELECT n, 1 + (n * 7) % 30000, 'skipper ' || n % 3000, date '2026-01-01' + n % 300,
    CASE WHEN n % 3 = 0 THEN date '2026-02-01' + n % 300 END FROM generate_series(1, 20000) n;
INSERT INTO barred SELECT 'skipper ' || n, date '2026-01-01' FROM generate_series(1, 50) n;
CREATE TABLE claim (claim_id int PRIMARY KEY, pier_id int NOT NULL, size int);
INSERT INTO claim VALUES (1, 9999, -1);
-- What is not validated need not hold for the rows that are there.
ALTER TABLE claim ADD FOREIGN KEY (pier_id) REFERENCES pier NOT VALID;
ALTER TABLE claim ADD CHECK (size > 0) NOT VALID;
CREATE INDEX ON mooring (used_at);
CREATE INDEX ON mooring (pier_id);
ANALYZE;
"""
SAME = [
    ("SELECT label FROM pier WHERE pier_id NOT IN (SELECT mooring_id FROM stay)",
     "SELECT label FROM pier WHERE NOT EXISTS (SELECT 1 FROM stay WHERE mooring_id = pier_id)"),
    ("SELECT mooring_id FROM mooring WHERE pier_id = 3 OR code = 'c1'",
     "SELECT mooring_id FROM mooring WHERE pier_id = 3 UNION "
     "SELECT mooring_id FROM mooring WHERE code = 'c1'"),
    ("SELECT * FROM mooring WHERE mooring_id::text = '42'",
     "SELECT * FROM mooring WHERE mooring_id = 42"),
    ("SELECT mooring_id FROM mooring WHERE swell <> 'calm'",
     "SELECT mooring_id FROM mooring WHERE swell IN ('rough', 'wild')"),
    ("SELECT mooring_id FROM mooring WHERE load >= 0 AND below > 0",
     "SELECT mooring_id FROM mooring WHERE load IS NOT NULL AND below IS NOT NULL"),
    ("SELECT mooring_id FROM mooring WHERE doubled > 8",
     "SELECT mooring_id FROM mooring WHERE load > 4"),
    ("SELECT mooring_id FROM mooring WHERE 'a' = ANY (tags)",
     "SELECT mooring_id FROM mooring WHERE tags @> ARRAY['a']"),
    ("SELECT pier_id, sum(price) FROM mooring GROUP BY 1",
     "SELECT pier_id, sum(price) FROM (SELECT * FROM mooring ORDER BY price) x GROUP BY 1"),
    ("SELECT stay_id FROM stay WHERE coalesce(left_on, due) > '2026-05-01'",
     "SELECT stay_id FROM stay WHERE left_on > '2026-05-01' "
     "OR (left_on IS NULL AND due > '2026-05-01')"),
    ("SELECT stay_id FROM stay s WHERE EXISTS (SELECT 1 FROM mooring m "
     "WHERE m.mooring_id = s.mooring_id)", "SELECT stay_id FROM stay"),
]  # fmt: skip
# With the conditions under which they would be the same.
DIFFERENT = [
    ("SELECT label FROM pier WHERE pier_id NOT IN (SELECT pier_id FROM mooring WHERE load > 5)",
     "SELECT label FROM pier p WHERE NOT EXISTS (SELECT 1 FROM mooring m "
     "WHERE m.pier_id = p.pier_id AND load > 5)", {"mooring.pier_id is never NULL"}),
    ("SELECT s.skipper FROM stay s JOIN barred b USING (skipper)",
     "SELECT skipper FROM stay s WHERE EXISTS (SELECT 1 FROM barred b "
     "WHERE b.skipper = s.skipper)", {"barred.skipper is unique"}),
    ("SELECT mooring_id FROM mooring WHERE pier_id = 3 OR code = 'c1'",
     "SELECT mooring_id FROM mooring WHERE pier_id = 3 UNION ALL "
     "SELECT mooring_id FROM mooring WHERE code = 'c1'", set()),
    ("SELECT * FROM mooring WHERE mooring_id::text = '042'",
     "SELECT * FROM mooring WHERE mooring_id = 42", set()),
    ("SELECT mooring_id FROM mooring WHERE used_at::date = '2026-03-01'",
     "SELECT mooring_id FROM mooring WHERE used_at >= '2026-03-01 00:00+00' "
     "AND used_at < '2026-03-02 00:00+00'", set()),
    ("SELECT mooring_id FROM mooring WHERE swell <> 'calm'",
     "SELECT mooring_id FROM mooring WHERE swell IN ('wild')", set()),
    ("SELECT stay_id FROM stay WHERE coalesce(left_on, due) > '2026-05-01'",
     "SELECT stay_id FROM stay WHERE left_on > '2026-05-01' OR due > '2026-05-01'", set()),
    ("SELECT mooring_id FROM mooring ORDER BY load DESC, mooring_id",
     "SELECT mooring_id FROM mooring ORDER BY load DESC NULLS LAST, mooring_id",
     {"mooring.load is never NULL"}),
    ("SELECT claim_id FROM claim JOIN pier USING (pier_id)", "SELECT claim_id FROM claim", set()),
    ("SELECT claim_id FROM claim WHERE size IS NOT NULL",
     "SELECT claim_id FROM claim WHERE size > 0", set()),
    ("SELECT sum(load) FROM mooring WHERE code = 'c1'",
     "SELECT coalesce(sum(load), 0) FROM mooring WHERE code = 'c1'", set()),
    ("SELECT date_trunc('day', used_at) FROM mooring "
     "WHERE date_trunc('day', used_at) = '2026-03-01 10:00'",
     "SELECT date_trunc('day', used_at) FROM mooring WHERE used_at >= '2026-03-01 10:00' "
     "AND used_at < '2026-03-02 10:00'", set()),
]  # fmt: skip
pytestmark = only_newest


@pytest.fixture
def harbour(server: Server, humble: Program) -> Iterator[Program]:
    """The program in a folder whose target is a database with that schema."""
    server.do("DROP DATABASE IF EXISTS harbour WITH (FORCE)")
    server.do("CREATE DATABASE harbour")
    url = server.url.replace("/skerry", "/harbour")
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(SCHEMA)
    humble.ok("init", url, "--role", "scratch")
    yield humble
    server.do("DROP DATABASE harbour WITH (FORCE)")


def test_it_tells_wrong_rewritings_from_right_ones(
    harbour: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(counterexamples, "LONGEST_SEARCH_S", 600.0)  # however slow the machine
    with Workspace(find_configuration(harbour.folder)) as workspace:

        def search(old: str, new: str) -> Search:
            return counterexample(workspace, {}, Pair(Statement(old), Statement(new)))

        for old, new in SAME:
            found = search(old, new)
            assert found.example is None and not found.unable, (old, new, found)
            assert found.with_rows > 20, (old, found)
        for old, new, missing in DIFFERENT:
            found = search(old, new)
            assert found.example is not None, (old, new, found)
            assert found.example.database.size <= 3, found.example.words
            assert {each.words for each in found.missing} == missing, found.example.words


def test_of_what_acts_or_is_no_table_nothing_is_run(harbour: Program) -> None:
    with Workspace(find_configuration(harbour.folder)) as workspace:
        for text in (
            "SELECT pg_advisory_lock(1) FROM pier",
            "SELECT * FROM generate_series(1, 3)",
            "SELECT * FROM pg_stat_activity",
            "DELETE FROM pier",
            "SELECT * FROM pier WHERE pier_id = $1",
            "SELECT * FROM pier; DROP TABLE pier",
        ):
            pair = Pair(Statement(text), Statement("SELECT * FROM pier"))
            assert counterexample(workspace, {}, pair).unable, text
        # And what was made for a search is gone with it.
        plan = workspace.hollow(lambda _: None).explain(Statement("SELECT * FROM pier"), {}).plan
        assert (plan.root.rows_expected or 0) == 200


def test_a_wrong_rewriting_is_not_proposed(harbour: Program) -> None:
    asked = "SELECT * FROM mooring WHERE mooring_id::text = '042'"
    found = harbour.json("propose", asked)
    assert [r["type"] for r in found["remedies"]] == ["index"]
    (refused,) = found["refused"]
    assert "mooring (mooring_id = '42')" in refused["example"]
    said = harbour.ok("propose", asked).out
    assert "is not proposed, as the result differs" in " ".join(said.split())
    kept = harbour.json("propose", asked.replace("042", "42"), "--type", "rewrite")["remedies"]
    assert kept[0]["checked"]["databases"] > 0 and kept[0]["checked"]["example"] == ""
    assert f"no difference on {kept[0]['checked']['databases']} small databases" in " ".join(
        harbour.ok("show", kept[0]["id"]).out.split()
    )


def test_a_text_that_only_happens_to_agree_is_not_kept_without_a_word(harbour: Program) -> None:
    (harbour.folder / "other.sql").write_text("SELECT mooring_id FROM mooring WHERE load > 299.5")
    # No row has a load at all that lies between: the results agree, and so does every trial.
    old = "SELECT mooring_id FROM mooring WHERE load::text > '299'  AND load > 299"
    trial = harbour.json("trial", old, "--rewrite", "other.sql", "--pairs", "6")
    assert trial["queries"][0]["same_result"] is True
    said = " ".join(harbour.ok("show", trial["id"]).out.split())
    assert "it means something else: with mooring (" in said, said
    message = harbour.fails(2, "settle", trial["id"], "keep")
    assert "--reason" in message and "does not support keeping it" in message
    harbour.ok("settle", trial["id"], "keep", "--reason", "loads are whole numbers")


def test_a_masked_ledger_keeps_no_value_of_an_example(server: Server, harbour: Program) -> None:
    (harbour.folder / "other.sql").write_text("SELECT pier_id FROM pier WHERE label = 'pier 77'")
    file = harbour.folder / "humble.toml"
    file.write_text("mask = true\n" + file.read_text())
    old = "SELECT pier_id FROM pier WHERE label LIKE 'pier 77'||''||'%'"
    harbour.run("trial", old, "--rewrite", "other.sql", "--pairs", "4")
    held = b"".join(p.read_bytes() for p in harbour.folder.glob("humble.ledger*"))
    assert b"pier 77" not in held
