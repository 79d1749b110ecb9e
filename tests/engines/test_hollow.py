"""A hollow plans as its target does, also with what is not there; and nothing escapes from it."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import tempfile
import textwrap
import time
from collections.abc import Iterator
from pathlib import Path

import psycopg
import pytest
from psycopg import RawCursor

from humble_ledger.core.costs.model import IndexShape
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.index_text import parse_index
from humble_ledger.core.remedies.prediction.formula import FormulaPredictor
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.postgresql.engine import PostgresEngine
from humble_ledger.engines.postgresql.hollow.asking import PostgresHollow
from humble_ledger.engines.postgresql.hollow.house import (
    FOLDER_VARIABLE,
    MOST_KEPT,
    House,
    Record,
    all_kept,
    kept_houses,
    removed,
)
from humble_ledger.engines.postgresql.hollow.source import known_settings
from humble_ledger.engines.postgresql.launcher import Cluster
from humble_ledger.engines.postgresql.plans.reader import read_plan
from humble_ledger.engines.postgresql.session import PostgresSession
from humble_ledger.errors import HumbleError, RefusedForSafety, TargetUnreachable
from tests.conftest import FOUND, MAJORS

# Every kind of thing that a schema may have and a planner look at.
SCHEMA = """
CREATE SCHEMA quay;
CREATE TYPE mood AS ENUM ('calm', 'rough', 'storm');
CREATE DOMAIN short AS varchar(10) CHECK (length(VALUE) > 0);
CREATE DOMAIN share AS numeric(5,2) CHECK (VALUE BETWEEN 0 AND 100);
CREATE FUNCTION doubled(integer) RETURNS integer LANGUAGE sql IMMUTABLE AS 'SELECT 2 * $1';
CREATE TABLE "Odd Table" (
    "Key" integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY, "select" integer NOT NULL, sea mood,
    code short NOT NULL, part share, tags text[], doc jsonb, during int4range,
    at timestamptz NOT NULL,
    twice integer GENERATED ALWAYS AS ("select" * 2) STORED, note text, flag boolean,
    fixed char(4), small real, CHECK ("select" >= 0), CHECK (at > '2001-01-01'));
INSERT INTO "Odd Table" ("select", sea, code, part, tags, doc, during, at, note, flag, fixed, small)
    SELECT n % 700, (ARRAY['calm','calm','rough','storm'])[1 + n % 4]::mood, 'c' || n % 900,
           n % 101, ARRAY['t' || n % 30, 'u' || n % 7], jsonb_build_object('a', n % 50),
           int4range(n, n + n % 40 + 1), timestamptz '2024-01-01' + n * interval '1 minute',
           CASE WHEN n % 3 = 0 THEN 'it''s "' || n % 400 END, n % 2 = 0, n % 60, n
    FROM generate_series(1, 20000) n;
CREATE INDEX ON "Odd Table" (lower(note)) WHERE flag;
CREATE INDEX ON "Odd Table" USING gin (tags);
CREATE INDEX ON "Odd Table" USING gist (during);
CREATE INDEX ON "Odd Table" USING hash (code);
CREATE INDEX odd_at ON "Odd Table" USING brin (at);
CREATE INDEX odd_twice ON "Odd Table" (doubled("select"), sea DESC NULLS LAST);
CREATE STATISTICS odd_pairs (ndistinct, dependencies, mcv) ON sea, flag FROM "Odd Table";
CREATE TABLE quay.one (id integer PRIMARY KEY, lone text UNIQUE NOT NULL);
INSERT INTO quay.one VALUES (1, 'alone');
CREATE TABLE quay.none (id bigint PRIMARY KEY, at date);
CREATE TABLE quay.visit (day date NOT NULL, berth integer NOT NULL, boat integer, fee numeric)
    PARTITION BY RANGE (day);
CREATE TABLE quay.visit_1 PARTITION OF quay.visit FOR VALUES FROM ('2024-01-01') TO ('2024-07-01');
CREATE TABLE quay.visit_2 PARTITION OF quay.visit FOR VALUES FROM ('2024-07-01') TO ('2025-01-01');
INSERT INTO quay.visit SELECT date '2024-01-01' + n % 366, n % 40, n % 3000, n % 77
    FROM generate_series(1, 30000) n;
CREATE TABLE quay.boat (boat integer PRIMARY KEY, name text NOT NULL,
    of integer REFERENCES quay.one);
INSERT INTO quay.boat SELECT n, 'boat ' || n, 1 FROM generate_series(0, 2999) n;
ALTER TABLE quay.visit ADD FOREIGN KEY (boat) REFERENCES quay.boat;
CREATE VIEW quay.visits AS SELECT v.*, b.name FROM quay.visit v JOIN quay.boat b USING (boat);
CREATE VIEW quay.moods AS SELECT * FROM "Odd Table" WHERE sea IN ('rough', 'storm');
CREATE MATERIALIZED VIEW quay.months AS SELECT date_trunc('month', day) AS m, count(*) AS n
    FROM quay.visit GROUP BY 1;
ANALYZE;
"""
STATEMENTS = [
    'SELECT * FROM "Odd Table" WHERE "Key" = 77',
    'SELECT * FROM "Odd Table" WHERE "Key" > 19990',
    'SELECT * FROM "Odd Table" WHERE "Key" > 500000',
    'SELECT * FROM "Odd Table" WHERE "select" = 5 AND sea = \'storm\'',
    "SELECT * FROM \"Odd Table\" WHERE sea > 'calm' AND flag",
    "SELECT count(*) FROM \"Odd Table\" WHERE sea = 'calm' AND NOT flag",
    "SELECT * FROM \"Odd Table\" WHERE lower(note) = 'it''s \"3' AND flag",
    "SELECT * FROM \"Odd Table\" WHERE tags @> ARRAY['t3']",
    'SELECT * FROM "Odd Table" WHERE during @> 700',
    "SELECT * FROM \"Odd Table\" WHERE code = 'c17'",
    "SELECT * FROM \"Odd Table\" WHERE at >= '2024-01-14 12:00+00'",
    'SELECT * FROM "Odd Table" WHERE doc @> \'{"a": 7}\' AND part > 90',
    'SELECT * FROM "Odd Table" WHERE doubled("select") = 40 ORDER BY sea DESC NULLS LAST',
    "SELECT * FROM \"Odd Table\" WHERE fixed = '17' AND small BETWEEN 5 AND 600",
    "SELECT * FROM quay.one WHERE lone = 'alone'",
    "SELECT * FROM quay.none WHERE at > '2024-01-01'",
    "SELECT * FROM quay.visit WHERE day = '2024-03-03' AND berth = 7",
    "SELECT name, sum(fee) FROM quay.visits WHERE day >= '2024-12-01' GROUP BY name",
    "SELECT * FROM quay.boat b LEFT JOIN quay.visit v USING (boat) WHERE b.name LIKE 'boat 29%'",
    "SELECT * FROM quay.months WHERE n > 10",
    "SELECT * FROM quay.moods WHERE NOT flag",
    'SELECT o."select", (SELECT max(fee) FROM quay.visit v WHERE v.boat = o."select") '
    'FROM "Odd Table" o',
    'WITH w AS (SELECT "select" AS s, count(*) AS n FROM "Odd Table" GROUP BY 1) SELECT * FROM w '
    "JOIN quay.visit v ON v.boat = w.s ORDER BY n DESC LIMIT 20",
]
INDEXES = [
    '"Odd Table" ("select")',
    '"Odd Table" ("select", sea) INCLUDE (code)',
    '"Odd Table" (part DESC) WHERE flag',
    '"Odd Table" (at, sea)',
    "quay.visit (boat)",
    "quay.visit_1 (berth, day)",
    "quay.boat (name text_pattern_ops)",
]


@pytest.fixture(scope="module", params=MAJORS, ids=lambda m: f"pg{m}")
def target(request: pytest.FixtureRequest) -> Iterator[str]:
    if request.param not in FOUND:
        pytest.skip("these server programs are not here")
    # Without replicas a server that is idle writes nothing to its log.
    quiet = {"wal_level": "minimal", "max_wal_senders": "0", "autovacuum": "off"}
    with Cluster(FOUND[request.param], quiet) as cluster:
        with psycopg.connect(cluster.url("postgres"), autocommit=True) as server:
            server.execute(SCHEMA)
            server.execute("VACUUM ANALYZE")
        yield cluster.url("postgres")


@pytest.fixture(scope="module")
def hollow(target: str) -> Iterator[PostgresHollow]:
    with PostgresEngine().hollow(target) as made:
        assert isinstance(made, PostgresHollow)
        yield made


def _steps(plan: Plan) -> list[tuple[str, str]]:
    return [(node.label, node.relation) for node in plan.nodes()]


def test_with_nothing_supposed_it_plans_and_costs_exactly_as_the_target(
    target: str, hollow: PostgresHollow
) -> None:
    session = PostgresSession(target, Limits())
    for text in STATEMENTS:
        there = session.explain(Statement(text)).plan
        here = hollow.explain(Statement(text), {}).plan
        assert _steps(here) == _steps(there), text
        # How full an inverted index is stands in its first page, which nobody may read.
        within = 1e-3 if "tags" in text else 0.0
        assert here.cost_total == pytest.approx(there.cost_total, rel=within, abs=0.0), text
    session.close()
    assert not hollow.notes, hollow.notes


def test_a_supposed_index_is_planned_as_the_real_one(target: str, hollow: PostgresHollow) -> None:
    session = PostgresSession(target, Limits())
    formula = FormulaPredictor(session.costs, session)
    used = 0
    for text in INDEXES:
        design = parse_index(text)
        shape = formula.shape(design, session.tables([design.table])[design.table])
        with psycopg.connect(target) as server:
            server.execute(design.create_sql("really").encode())
            for statement in STATEMENTS:
                row = RawCursor(server).execute(
                    f"EXPLAIN (FORMAT JSON, VERBOSE) {statement}".encode()
                )
                real = read_plan(row.fetchone()[0], "")  # type: ignore[index]
                here = hollow.explain(Statement(statement), {design: shape}).plan
                assert _steps(here) == _steps(real), (text, statement)
                assert here.cost_total == pytest.approx(real.cost_total, rel=0.05), statement
                used += any(name in hollow.names({design: shape}) for name in _indexes(here))
            server.rollback()
    assert used >= 5
    session.close()


def _indexes(plan: Plan) -> set[str]:
    return {node.index for node in plan.nodes() if node.index}


def test_an_index_supposed_gone_is_planned_without(target: str, hollow: PostgresHollow) -> None:
    statement = "SELECT * FROM \"Odd Table\" WHERE at >= '2024-01-14 12:00+00'"
    before = hollow.explain(Statement(statement), {}).plan
    without = hollow.explain(Statement(statement), {}, without=[TableName("public", "odd_at")]).plan
    with psycopg.connect(target) as server:
        server.execute("DROP INDEX odd_at")
        row = server.execute(f"EXPLAIN (FORMAT JSON, VERBOSE) {statement}".encode()).fetchone()
        server.rollback()
    assert row is not None
    real = read_plan(row[0], "")
    assert _steps(without) == _steps(real) and without.cost_total == real.cost_total
    again = hollow.explain(Statement(statement), {}).plan
    assert again.cost_total == before.cost_total


def test_the_target_sees_nothing_but_reads(target: str) -> None:
    watched = """SELECT pg_current_wal_insert_lsn()::text,
        (SELECT sum(n_tup_ins + n_tup_upd + n_tup_del)
        FROM pg_stat_all_tables WHERE schemaname <> 'pg_catalog'),
        (SELECT count(*) FROM pg_locks WHERE mode NOT IN ('AccessShareLock', 'ExclusiveLock')),
        (SELECT md5(string_agg(c::text, '' ORDER BY oid)) FROM pg_class c),
        (SELECT sum(idx_scan) FROM pg_stat_user_indexes)"""
    with psycopg.connect(target, autocommit=True) as server:
        # The first reading of a page may leave marks in it, whoever reads.
        for time_ in ("first", "second"):
            if time_ == "second":
                server.execute("CHECKPOINT")
                server.execute(watched)
            found = [server.execute(watched).fetchone()]
            with PostgresEngine().hollow(target) as made:
                design = parse_index("quay.visit (boat)")
                session = PostgresSession(target, Limits())
                formula = FormulaPredictor(session.costs, session)
                shape = formula.shape(design, session.tables([design.table])[design.table])
                made.explain(Statement(STATEMENTS[17]), {design: shape})
                found.append(server.execute(watched).fetchone())
                session.close()
            found.append(server.execute(watched).fetchone())
        assert found[0] == found[1] == found[2]


HOSTILE = """
CREATE FUNCTION does() RETURNS integer LANGUAGE plpgsql AS $$
BEGIN EXECUTE format('COPY (SELECT 1) TO PROGRAM %L', 'cat > {0}'); RETURN 1;
EXCEPTION WHEN insufficient_privilege THEN RETURN 2; END $$;
CREATE FUNCTION acts(integer) RETURNS integer LANGUAGE plpgsql IMMUTABLE AS
    $$ BEGIN RETURN public.does(); END $$;
CREATE FUNCTION rises() RETURNS boolean LANGUAGE plpgsql AS $$
BEGIN ALTER ROLE CURRENT_USER SUPERUSER; RETURN true;
EXCEPTION WHEN others THEN RETURN true; END $$;
CREATE DOMAIN trap AS integer CHECK (acts(VALUE) > 0);
CREATE TABLE bait (id integer PRIMARY KEY, t trap, v integer CHECK (acts(v) > 0 AND rises()),
    w integer GENERATED ALWAYS AS (acts(1)) STORED);
CREATE INDEX ON bait (acts(v));
ALTER TABLE bait ENABLE ROW LEVEL SECURITY;
CREATE POLICY p ON bait USING (acts(v) > 0);
"""


@pytest.fixture
def anybodys() -> Iterator[Path]:
    """A folder that every user can write to."""
    folder = Path(tempfile.mkdtemp(dir="/var/tmp"))
    folder.chmod(0o777)
    yield folder
    shutil.rmtree(folder)


def test_functions_of_the_target_act_with_no_rights_in_the_hollow(anybodys: Path) -> None:
    """What an untrusted author put into the schema runs nowhere as a superuser."""
    acted = anybodys / "acted"
    with Cluster(FOUND[MAJORS[0]]) as cluster:
        url = cluster.url("postgres")
        with psycopg.connect(url, autocommit=True) as server:
            server.execute(HOSTILE.replace("{0}", str(acted)).encode())
            server.execute("CREATE FUNCTION ev() RETURNS event_trigger LANGUAGE plpgsql AS "
                           "$$ BEGIN PERFORM acts(1); END $$")  # fmt: skip
            server.execute("INSERT INTO bait SELECT n, n, n FROM generate_series(1, 500) n")
            server.execute("ANALYZE bait")
            server.execute("CREATE EVENT TRIGGER e ON ddl_command_end EXECUTE FUNCTION ev()")
        assert acted.exists()
        acted.unlink()  # on the target itself it may act: its owner is superuser
        with PostgresEngine().hollow(url) as made:
            with pytest.raises(RefusedForSafety):  # as on the target, unless it is allowed
                made.explain(Statement("SELECT * FROM bait WHERE acts(v) = 1"), {})
            assert isinstance(made, PostgresHollow)
            roles = made.standing.admin.execute(
                "SELECT rolname FROM pg_roles WHERE rolsuper"
            ).fetchall()
            assert roles == [("humble",)]
            assert made.standing.admin.execute(
                "SELECT count(*) FROM pg_event_trigger"
            ).fetchone() == (0,)
        assert not acted.exists()


def test_nothing_is_left_when_the_program_is_killed(target: str, tmp_path: Path) -> None:
    script = textwrap.dedent(f"""
        import time
        from humble_ledger.engines.postgresql.engine import PostgresEngine
        with PostgresEngine().hollow({target!r}, keep=False) as made:
            print(made.standing.cluster.folder, flush=True)
            time.sleep(60)
    """)
    running = subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE, text=True)
    assert running.stdout is not None
    folder = Path(running.stdout.readline().strip())
    assert folder.is_dir()
    mode = folder.stat().st_mode & 0o077
    running.kill()
    running.wait()
    for _ in range(300):
        if not folder.exists():
            break
        time.sleep(0.1)
    assert not folder.exists() and mode == 0
    servers = subprocess.run(["ps", "-eo", "args"], capture_output=True, text=True, check=True)
    assert str(folder) not in servers.stdout
    assert os.path.exists("/proc")


def test_a_kept_hollow_is_used_again_and_made_anew_when_it_is_no_longer_true(
    target: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    tmp_path.chmod(0o755)
    folder = Path(tempfile.mkdtemp(prefix="humble-tests-", dir="/var/tmp"))
    folder.chmod(0o755)
    monkeypatch.setenv(FOLDER_VARIABLE, str(folder))
    statement = Statement("SELECT * FROM quay.boat WHERE name = 'boat 7'")
    try:
        with PostgresEngine().hollow(target) as made:
            first = made.explain(statement, {}).plan.cost_total
        (house,) = kept_houses()
        (record,) = [r for r, place in all_kept() if place == house]
        assert house.stat().st_mode & 0o077 == 0
        with PostgresEngine().hollow(target) as made:
            assert made.explain(statement, {}).plan.cost_total == first
        assert [r for r, place in all_kept() if place == house] == [record]
        with psycopg.connect(target, autocommit=True) as server:
            server.execute("CREATE INDEX fresh ON quay.boat (name)")
        with PostgresEngine().hollow(target) as made:
            changed = made.explain(statement, {}).plan
            assert changed.uses_index("fresh") and changed.cost_total != first
        (again,) = [r for r, place in all_kept() if place == house]
        assert again.fingerprint != record.fingerprint
        assert removed(house) and not house.exists()
    finally:
        with psycopg.connect(target, autocommit=True) as server:
            server.execute("DROP INDEX IF EXISTS quay.fresh")
        shutil.rmtree(folder, ignore_errors=True)


def test_what_a_killed_command_left_is_not_trusted(
    target: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = Path(tempfile.mkdtemp(prefix="humble-tests-", dir="/var/tmp"))
    folder.chmod(0o755)
    monkeypatch.setenv(FOLDER_VARIABLE, str(folder))
    script = textwrap.dedent(f"""
        import time
        from humble_ledger.engines.postgresql.engine import PostgresEngine
        with PostgresEngine().hollow({target!r}) as made:
            made.standing.admin.execute("DELETE FROM pg_statistic")
            print("made", flush=True)
            time.sleep(60)
    """)
    try:
        running = subprocess.Popen(
            [sys.executable, "-c", script], stdout=subprocess.PIPE, text=True
        )
        assert running.stdout is not None and running.stdout.readline() == "made\n"
        running.kill()
        running.wait()
        session = PostgresSession(target, Limits())
        there = session.explain(Statement(STATEMENTS[3])).plan
        session.close()
        for _ in range(2):  # while its server goes, and when it has gone
            with PostgresEngine().hollow(target) as made:
                assert (
                    made.explain(Statement(STATEMENTS[3]), {}).plan.cost_total == there.cost_total
                )
            time.sleep(1)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def test_settings_are_taken_over_by_our_servers_list(target: str) -> None:
    """A target may call anything a planner's setting; some would have a server load a library."""
    with PostgresEngine().hollow(target, keep=False) as made:
        assert isinstance(made, PostgresHollow)
        known = known_settings(made.standing.admin)
        assert "random_page_cost" in known and "work_mem" in known
        assert not {n for n in known if "librar" in n or "role" in n or "path" in n}


def test_a_table_supposed_larger_is_planned_as_one_that_has_grown() -> None:
    """Five times the rows of the same kind, supposed and then really there."""
    asked = [text for text in STATEMENTS if "quay.visit" in text]
    table = TableName("quay", "visit")
    with Cluster(FOUND[MAJORS[0]]) as cluster:
        url = cluster.url("postgres")
        with psycopg.connect(url, autocommit=True) as server:
            server.execute(SCHEMA)
            server.execute("CREATE INDEX ON quay.visit (boat)")
            server.execute("VACUUM ANALYZE")
        with PostgresEngine().hollow(url, keep=False) as made:
            before = [made.explain(Statement(text), {}).plan for text in asked]
            grown = [made.explain(Statement(t), {}, rows={table: 5.0}).plan for t in asked]
            again = [made.explain(Statement(text), {}).plan for text in asked]
        assert [p.cost_total for p in again] == [p.cost_total for p in before]
        with psycopg.connect(url, autocommit=True) as server:
            server.execute(
                "INSERT INTO quay.visit SELECT v.* FROM quay.visit v, generate_series(1, 4)"
            )
            server.execute("REINDEX TABLE quay.visit")
            server.execute("VACUUM ANALYZE")
        session = PostgresSession(url, Limits())
        real = [session.explain(Statement(text)).plan for text in asked]
        session.close()
    assert len(asked) >= 4
    for text, supposed, found, small in zip(asked, grown, real, before, strict=True):
        assert _steps(supposed) == _steps(found), text
        assert supposed.cost_total == pytest.approx(found.cost_total, rel=0.15), text
        assert (found.cost_total or 0) > 1.5 * (small.cost_total or 0)


def test_only_so_many_hollows_are_kept(tmp_path: Path) -> None:
    house = House(None, tmp_path)  # type: ignore[arg-type]
    for number in range(MOST_KEPT + 2):
        made_at = f"2026-11-{number + 1:02d}T00:00:00+00:00"
        house.keep(Record(f"hollow_{number}", "postgresql://here", made_at, "", "18"))
    assert house.too_many() == ["hollow_0", "hollow_1"]
    house.forget("hollow_0")
    assert house.too_many() == ["hollow_1"] and len(house.records()) == MOST_KEPT + 1


TOGETHER = [
    "SELECT kind, sub, day, count(*) FROM swarm WHERE kind = 3 AND sub = 9 GROUP BY 1, 2, 3",
    "SELECT kind, sub, count(*) FROM swarm GROUP BY 1, 2",
    "SELECT kind, day, count(*) FROM swarm GROUP BY 1, 2",
]


def test_statistics_of_columns_together_hold_after_a_column_was_dropped(target: str) -> None:
    with psycopg.connect(target, autocommit=True) as server:
        server.execute(
            "CREATE TABLE swarm AS SELECT n AS gone, n % 50 AS kind, n % 50 * 3 + n / 50 % 2 "
            "AS sub, date '2020-01-01' + n / 200 AS day FROM generate_series(1, 120000) n"
        )
        server.execute("ALTER TABLE swarm DROP COLUMN gone")
        server.execute("CREATE STATISTICS swarming ON kind, sub, day FROM swarm")
        server.execute("ANALYZE swarm")
        server.execute("CREATE ROLE looker LOGIN")
        server.execute("GRANT SELECT ON ALL TABLES IN SCHEMA public, quay TO looker")
        server.execute("GRANT USAGE ON SCHEMA quay TO looker")
    try:
        # Who may not read them gets what a sample tells.
        for url, within in ((target, 0.0), (target.replace("humble@", "looker@"), 0.02)):
            with PostgresEngine().hollow(url, keep=False) as made:
                session = PostgresSession(url, Limits())
                for text in TOGETHER:
                    there = session.explain(Statement(text)).plan
                    here = made.explain(Statement(text), {}).plan
                    close = pytest.approx(there.cost_total, rel=within, abs=0.0)
                    assert here.cost_total == close, (url, text)
                    assert _steps(here) == _steps(there), (url, text)
                session.close()
                assert any("by a sample" in note for note in made.notes) == bool(within)
    finally:
        with psycopg.connect(target, autocommit=True) as server:
            server.execute("DROP TABLE swarm; DROP OWNED BY looker")
            server.execute("DROP ROLE looker")


def test_a_role_that_may_only_read_gets_a_hollow_and_one_that_may_not_is_told(target: str) -> None:
    with psycopg.connect(target, autocommit=True) as server:
        for role in ("reader", "stranger"):
            server.execute(f"DROP ROLE IF EXISTS {role}".encode())
            server.execute(f"CREATE ROLE {role} LOGIN".encode())
        server.execute("GRANT USAGE ON SCHEMA quay TO reader")
        server.execute("ALTER TABLE quay.none ENABLE ROW LEVEL SECURITY")
        server.execute("CREATE POLICY everything ON quay.none USING (true)")
        server.execute("GRANT SELECT ON ALL TABLES IN SCHEMA quay, public TO reader")
    try:
        url = target.replace("humble@", "reader@")
        session = PostgresSession(url, Limits())
        with PostgresEngine().hollow(url, keep=False) as made:
            for text in STATEMENTS[13:20]:  # without statistics of several columns
                there = session.explain(Statement(text)).plan
                here = made.explain(Statement(text), {}).plan
                assert (_steps(here), here.cost_total) == (_steps(there), there.cost_total), text
            assert any("superuser" in note for note in made.notes)
            assert any("row-level security" in n and "quay.none" in n for n in made.notes)
            assert not any("is not in it" in n for n in made.notes)
        session.close()
        refused = pytest.raises(TargetUnreachable, match="permission denied")
        with refused, PostgresEngine().hollow(target.replace("humble@", "stranger@"), keep=False):
            pass
    finally:
        with psycopg.connect(target, autocommit=True) as server:
            server.execute("DROP POLICY everything ON quay.none")
            server.execute("ALTER TABLE quay.none DISABLE ROW LEVEL SECURITY")
            server.execute("DROP OWNED BY reader; DROP OWNED BY stranger")
            server.execute("DROP ROLE reader; DROP ROLE stranger")


GUARDED = """
CREATE ROLE clerk LOGIN; CREATE ROLE staff; GRANT staff TO clerk; CREATE ROLE stranger;
CREATE TABLE freight (id integer PRIMARY KEY, firm integer NOT NULL, gone timestamptz);
INSERT INTO freight SELECT n, n % 400, CASE WHEN n % 3 = 0 THEN now() END
    FROM generate_series(1, 20000) n;
CREATE INDEX freight_firm ON freight (firm);
ALTER TABLE freight ENABLE ROW LEVEL SECURITY;
ALTER TABLE freight FORCE ROW LEVEL SECURITY;
CREATE POLICY own ON freight TO staff USING (firm = 7);
CREATE POLICY never ON freight AS RESTRICTIVE TO stranger USING (false);
CREATE POLICY there ON freight AS RESTRICTIVE FOR SELECT TO clerk USING (gone IS NULL);
GRANT USAGE ON SCHEMA quay TO clerk;
GRANT SELECT ON ALL TABLES IN SCHEMA quay, public TO clerk;
ANALYZE freight;
"""


def test_what_one_may_see_is_in_the_plans_as_it_is_on_the_target(target: str) -> None:
    with psycopg.connect(target, autocommit=True) as server:
        server.execute(GUARDED.encode())
    try:
        for url in (target, target.replace("humble@", "clerk@")):
            session = PostgresSession(url, Limits())
            with PostgresEngine().hollow(url, keep=False) as made:
                for text in (
                    "SELECT * FROM freight",
                    "SELECT * FROM freight WHERE id = 5",
                    "SELECT * FROM freight f JOIN quay.boat b ON b.boat = f.id WHERE f.id = 5",
                ):
                    there = session.explain(Statement(text)).plan
                    here = made.explain(Statement(text), {}).plan
                    assert _steps(here) == _steps(there), (url, text)
                    conditions = [n.conditions for n in there.nodes()]
                    assert [n.conditions for n in here.nodes()] == conditions, (url, text)
            session.close()
    finally:
        with psycopg.connect(target, autocommit=True) as server:
            server.execute("DROP TABLE freight; DROP OWNED BY clerk")
            server.execute("DROP ROLE clerk, staff, stranger")


EXPRESSIONS = """
CREATE TABLE ware (gap integer, id integer, firm integer, note text);
INSERT INTO ware SELECT 1, n, n % 400, 'Note ' || n % 300 FROM generate_series(1, 20000) n;
ALTER TABLE ware DROP gap;
CREATE STATISTICS ware_lower ON (lower(note)) FROM ware;
CREATE STATISTICS ware_both (ndistinct, mcv) ON (firm % 10), note FROM ware;
CREATE ROLE keeper LOGIN;
ALTER TABLE ware OWNER TO keeper;
ALTER STATISTICS ware_lower OWNER TO keeper;
ANALYZE ware;
"""


def test_statistics_on_expressions_are_carried_over(target: str) -> None:
    with psycopg.connect(target, autocommit=True) as server:
        server.execute(EXPRESSIONS.encode())
        server.execute("GRANT SELECT ON ALL TABLES IN SCHEMA quay, public TO keeper")
        server.execute("GRANT USAGE ON SCHEMA quay TO keeper")
    texts = [
        "SELECT * FROM ware WHERE lower(note) = 'note 7'",
        "SELECT * FROM ware WHERE lower(note) LIKE 'note 7%'",
        "SELECT firm % 10, count(*) FROM ware GROUP BY 1",
        "SELECT firm % 10, note, count(*) FROM ware GROUP BY 1, 2",
    ]
    try:
        # What goes together is for superusers, what is of one expression for its owner, too.
        for url, known in ((target, texts), (target.replace("humble@", "keeper@"), texts[:3])):
            session = PostgresSession(url, Limits())
            with PostgresEngine().hollow(url, keep=False) as made:
                for text in known:
                    there = session.explain(Statement(text)).plan
                    here = made.explain(Statement(text), {}).plan
                    assert here.root.rows_expected == there.root.rows_expected, (url, text)
                left = any("ware_both" in note for note in made.notes)
                assert left == (known is not texts)
            session.close()
    finally:
        with psycopg.connect(target, autocommit=True) as server:
            server.execute("DROP TABLE ware; DROP OWNED BY keeper")
            server.execute("DROP ROLE keeper")


def test_a_server_that_breaks_down_is_told_and_thrown_away(target: str) -> None:
    text = Statement('SELECT * FROM "Odd Table" WHERE "select" = 5')
    design = parse_index('"Odd Table" ("select")')
    with PostgresEngine().hollow(target) as made:
        before = made.explain(text, {}).plan.cost_total
        pid = made.standing.admin.info.backend_pid
        os.kill(pid, signal.SIGKILL)  # the server ends all sessions, and starts over
        with pytest.raises(HumbleError):
            made.explain(text, {design: IndexShape(40, 1, 20_000.0)})
    with PostgresEngine().hollow(target) as again:
        assert again.explain(text, {}).plan.cost_total == before
