"""A hollow plans as its target does, also with what is not there."""

from __future__ import annotations

import psycopg
import pytest
from psycopg import RawCursor

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.index_text import parse_index
from humble_ledger.core.remedies.prediction.formula import FormulaPredictor
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.postgresql.engine import PostgresEngine
from humble_ledger.engines.postgresql.hollow.asking import PostgresHollow
from humble_ledger.engines.postgresql.launcher import Cluster
from humble_ledger.engines.postgresql.plans.reader import read_plan
from humble_ledger.engines.postgresql.session import PostgresSession
from humble_ledger.errors import TargetUnreachable
from tests.conftest import FOUND, MAJORS
from tests.engines.hollow_schema import INDEXES, SCHEMA, STATEMENTS, steps


def test_with_nothing_supposed_it_plans_and_costs_exactly_as_the_target(
    target: str, hollow: PostgresHollow
) -> None:
    session = PostgresSession(target, Limits())
    for text in STATEMENTS:
        there = session.explain(Statement(text)).plan
        here = hollow.explain(Statement(text), {}).plan
        assert steps(here) == steps(there), text
        # How full an inverted index is stands in its first page, which nobody may read.
        within = 1e-3 if "tags" in text else 0.0
        assert here.cost_total == pytest.approx(there.cost_total, rel=within, abs=0.0), text
    session.close()
    assert not hollow.notes, hollow.notes


# Common values, bounds, correlation, elements: what is told of ranges is empty for empty ones.
_OF_VALUES = range(1, 6)


def test_statistics_stand_there_as_the_server_itself_keeps_them(
    target: str, hollow: PostgresHollow
) -> None:
    kept = ", ".join(f"stakind{n}, staop{n}::regoperator::text, stacoll{n}" for n in range(1, 6))
    asked = (
        f"SELECT c.relname, a.attname, {kept} FROM pg_statistic s "
        "JOIN pg_class c ON c.oid = s.starelid JOIN pg_namespace n ON n.oid = c.relnamespace "
        "JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = s.staattnum "
        "WHERE n.nspname IN ('public', 'quay') ORDER BY 1, 2"
    )

    def told(rows: list[tuple[object, ...]]) -> dict[object, set[object]]:
        """Of each column the kinds with their operators, wherever in its row they stand."""
        return {
            row[:2]: {row[n : n + 3] for n in range(2, len(row), 3) if row[n] in _OF_VALUES}
            for row in rows
        }

    with psycopg.connect(target) as server:
        there = told(server.execute(asked.encode()).fetchall())
    here = told(hollow.standing.admin.execute(asked.encode()).fetchall())
    assert {name for _, name in there} >= {"state", "code", "sea", "during"}  # type: ignore[misc]
    for column, kinds in there.items():
        assert here.get(column, kinds) == kinds, column
    assert len(here) >= 0.9 * len(there)


def test_a_supposed_index_is_planned_as_the_real_one(target: str, hollow: PostgresHollow) -> None:
    session = PostgresSession(target, Limits())
    formula = FormulaPredictor(session.costs, session)
    used = 0
    for text in INDEXES:
        design = parse_index(text, "public")
        shape = formula.shape(design, session.tables([design.table])[design.table])
        with psycopg.connect(target) as server:
            server.execute(design.create_sql("really").encode())
            for statement in STATEMENTS:
                row = RawCursor(server).execute(
                    f"EXPLAIN (FORMAT JSON, VERBOSE) {statement}".encode()
                )
                real = read_plan(row.fetchone()[0], "")  # type: ignore[index]
                here = hollow.explain(Statement(statement), {design: shape}).plan
                assert steps(here) == steps(real), (text, statement)
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
    assert steps(without) == steps(real) and without.cost_total == real.cost_total
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
            with PostgresEngine().connect(target).hollow() as made:
                design = parse_index("quay.visit (boat)", "public")
                session = PostgresSession(target, Limits())
                formula = FormulaPredictor(session.costs, session)
                shape = formula.shape(design, session.tables([design.table])[design.table])
                made.explain(Statement(STATEMENTS[17]), {design: shape})
                found.append(server.execute(watched).fetchone())
                session.close()
            found.append(server.execute(watched).fetchone())
        assert found[0] == found[1] == found[2]


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
        with PostgresEngine().connect(url).hollow(keep=False) as made:
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
        assert steps(supposed) == steps(found), text
        assert supposed.cost_total == pytest.approx(found.cost_total, rel=0.15), text
        assert (found.cost_total or 0) > 1.5 * (small.cost_total or 0)


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
            with PostgresEngine().connect(url).hollow(keep=False) as made:
                session = PostgresSession(url, Limits())
                for text in TOGETHER:
                    there = session.explain(Statement(text)).plan
                    here = made.explain(Statement(text), {}).plan
                    close = pytest.approx(there.cost_total, rel=within, abs=0.0)
                    assert here.cost_total == close, (url, text)
                    assert steps(here) == steps(there), (url, text)
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
        with PostgresEngine().connect(url).hollow(keep=False) as made:
            for text in STATEMENTS[13:20]:  # without statistics of several columns
                there = session.explain(Statement(text)).plan
                here = made.explain(Statement(text), {}).plan
                assert (steps(here), here.cost_total) == (steps(there), there.cost_total), text
            assert any("superuser" in note for note in made.notes)
            assert any("row-level security" in n and "quay.none" in n for n in made.notes)
            assert not any("is not in it" in n for n in made.notes)
        session.close()
        refused = pytest.raises(TargetUnreachable, match="permission denied")
        with (
            refused,
            PostgresEngine().connect(target.replace("humble@", "stranger@")).hollow(keep=False),
        ):
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
            with PostgresEngine().connect(url).hollow(keep=False) as made:
                for text in (
                    "SELECT * FROM freight",
                    "SELECT * FROM freight WHERE id = 5",
                    "SELECT * FROM freight f JOIN quay.boat b ON b.boat = f.id WHERE f.id = 5",
                ):
                    there = session.explain(Statement(text)).plan
                    here = made.explain(Statement(text), {}).plan
                    assert steps(here) == steps(there), (url, text)
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
            with PostgresEngine().connect(url).hollow(keep=False) as made:
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
