"""The engine on real servers of both versions."""

from __future__ import annotations

import contextlib
import statistics
import threading
import time

import psycopg
import pytest

from humble_ledger.core.remedies.candidates.accesses import accesses
from humble_ledger.core.remedies.candidates.registry import candidates
from humble_ledger.core.remedies.prediction.contract import Asked
from humble_ledger.core.remedies.prediction.formula import FormulaPredictor
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.demo.workload import load_workload
from humble_ledger.engines.contract import Capability, Change, ExplainOptions, Limits, NewIndex
from humble_ledger.engines.postgresql.connection import public_url
from humble_ledger.engines.postgresql.engine import PostgresEngine
from humble_ledger.engines.postgresql.explain import has_placeholders
from humble_ledger.engines.postgresql.session import PostgresSession
from humble_ledger.errors import (
    LockNotGranted,
    RefusedForSafety,
    StatementRejected,
    StatementTimedOut,
    WrongUsage,
)
from humble_ledger.workflow.reading.plans import table_names
from tests.conftest import READINGS, Server
from tests.program import PATIENCE_S

SENSOR = Statement("SELECT taken_at FROM reading WHERE sensor_id = $1", ("1187",))
CATALOGUE = """SELECT (SELECT count(*) FROM pg_class), (SELECT count(*) FROM pg_index),
    (SELECT count(*) FROM pg_attribute), (SELECT count(*) FROM pg_locks WHERE relation =
    'reading'::regclass)"""


@pytest.mark.parametrize(
    ("url", "public"),
    [
        (
            "postgresql://me:secret@h:5432/d?sslmode=require",
            "postgresql://me@h:5432/d?sslmode=require",
        ),
        ("postgresql://me@h/d", "postgresql://me@h/d"),
        ("postgresql://h/d?password=secret&user=me", "postgresql://me@h/d"),
        ("postgresql://me:s%40crt@/d?host=%2Ftmp", "postgresql://me@/d?host=%2Ftmp"),
        ("postgresql://me:a#b?c@h/d", "postgresql://me@h/d"),
        ("postgresql://h/d?pass%77ord=secret", "postgresql://h/d"),
        ("postgresql://h/d?sslpassword=secret&sslmode=require", "postgresql://h/d?sslmode=require"),
        ("postgresql://h/d?passfile=secret", "postgresql://h/d"),
        ("postgresql://h/d?options=-c%20x.key%3Dsecret", "postgresql://h/d"),
        ("postgresql://me:secret@a:1,b:2/d", "postgresql://me@a:1,b:2/d"),
        ("postgresql://me:secret@[::1]:5432/d", "postgresql://me@[::1]:5432/d"),
        ("postgresql://me%40there:secret@h/d%2Fe", "postgresql://me%40there@h/d%2Fe"),
        ("host=h password='sec ret' user=me", "user=me host=h"),
        ("service=sea", "service=sea"),
        ("", ""),
    ],
)
def test_a_password_is_never_part_of_what_is_kept(url: str, public: str) -> None:
    assert public_url(url) == public
    assert "password" not in public_url("host=h password=secret user=me")


def test_an_address_that_is_none_is_refused_without_showing_it() -> None:
    for url in (
        "host=h passwort=secret",
        "postgresql://me:se/secret@h/d",
        "postgresql://me:s@secret@h/d",
        "postgresql://me:se%secret@h/d",
        "postgresql://me:p@h:secret/d",
        "host=h password=a secret user=c",
        "dbname=postgresql://me:secret@h/d",
        "postgresql://h/d?secret",
        "host=h password='secret",
    ):
        with pytest.raises(WrongUsage) as caught:
            public_url(url)
        assert "secret" not in caught.value.message + caught.value.hint, caught.value.message
        assert caught.value.__cause__ is None


def test_a_session_is_read_only_has_limits_and_a_name(server: Server) -> None:
    session = PostgresSession(server.url, Limits(statement_ms=300, lock_ms=100))
    with pytest.raises(StatementTimedOut):
        session.explain(Statement("SELECT pg_sleep(3)"), ExplainOptions(measure=True))
    with pytest.raises(RefusedForSafety):
        session.explain(Statement("DELETE FROM visit"), ExplainOptions(measure=True))
    # A function that writes cannot be seen in the text; the session's own setting stops it.
    server.do("CREATE SEQUENCE IF NOT EXISTS s")
    with pytest.raises(RefusedForSafety, match="calls nextval"):
        session.explain(Statement("SELECT nextval('s')"), ExplainOptions(measure=True))
    names = server.fetch("SELECT application_name FROM pg_stat_activity")
    assert ("humble-ledger",) in names
    session.close()


def test_defaults_are_of_rows_that_are_inserted(session: PostgresSession, server: Server) -> None:
    server.do("CREATE TABLE berth (no bigint GENERATED ALWAYS AS IDENTITY, side text)")
    server.do("CREATE TABLE mooring (no int DEFAULT nextval('s'), berth bigint, side text)")
    server.do("INSERT INTO berth (side) VALUES ('east'), ('west')")
    try:
        asked = ExplainOptions(measure=True, allow_writes=True)
        for text in (
            "DELETE FROM berth WHERE side = 'east'",
            "UPDATE mooring SET side = 'west' WHERE berth = 1",
        ):
            assert session.explain(Statement(text), asked).plan.measured, text
        for text in (
            "INSERT INTO berth (side) VALUES ('north')",
            "UPDATE mooring SET no = DEFAULT",
            "INSERT INTO mooring (side) SELECT side FROM berth",
        ):
            with pytest.raises(RefusedForSafety, match="calls nextval"):
                session.explain(Statement(text), asked)
        # A key that falls back to its default when the row it names goes.
        server.do("ALTER TABLE berth ADD PRIMARY KEY (no)")
        server.do(
            "ALTER TABLE mooring ADD FOREIGN KEY (berth) REFERENCES berth ON DELETE SET DEFAULT,"
            " ALTER berth SET DEFAULT nextval('s')"
        )
        again = PostgresSession(server.url, Limits())
        with pytest.raises(RefusedForSafety, match="calls nextval"):
            again.explain(Statement("DELETE FROM berth WHERE side = 'west'"), asked)
        again.close()
    finally:
        server.do("DROP TABLE mooring, berth")


def test_allowed_writes_are_rolled_back(session: PostgresSession, server: Server) -> None:
    before = server.fetch("SELECT count(*), sum(minutes) FROM visit")
    statement = Statement("UPDATE visit SET minutes = 0 WHERE visit_id < $1", ("50",))
    found = session.explain(statement, ExplainOptions(measure=True, allow_writes=True))
    assert found.plan.measured and found.plan.root.label == "Update"
    assert server.fetch("SELECT count(*), sum(minutes) FROM visit") == before


@pytest.mark.parametrize(
    ("sql", "words"),
    [
        ("SELECT 1 FORM x y", "line 1, column 15"),
        ("SELECT 1,\n  2 FROM nowhere", "line 2, column 10: relation"),
        ("SELECT no_such(1)", "no_such"),
    ],
)
def test_a_wrong_statement_is_placed(session: PostgresSession, sql: str, words: str) -> None:
    with pytest.raises(StatementRejected, match=words):
        session.explain(Statement(sql))
    assert session.explain(Statement("SELECT 1")).plan.root.label == "Result", "still usable"


def test_placeholders_without_values_give_the_generic_plan(session: PostgresSession) -> None:
    statement = Statement("SELECT * FROM reading WHERE buoy_id = $1 AND value > $2")
    assert has_placeholders(statement.sql) and not has_placeholders("SELECT '$1'")
    plan = session.explain(statement).plan
    assert plan.relations() == {("public", "reading")}
    assert any("$1" in text for n in plan.nodes() for text in n.conditions.all())
    with pytest.raises(WrongUsage, match="no values"):
        session.explain(statement, ExplainOptions(measure=True))


def test_facts_of_a_table(session: PostgresSession, server: Server) -> None:
    reading = session.tables([TableName("public", "reading"), TableName("public", "nowhere")])
    (facts,) = reading.values()
    assert facts.rows == pytest.approx(READINGS, rel=0.01)
    assert facts.pages * 8192 == facts.size_bytes
    assert facts.changes_since_analyze == READINGS // 50
    assert facts.writes.inserted == READINGS
    composite = facts.index("reading_buoy_taken")
    assert composite is not None and composite.key_columns == ("buoy_id", "taken_at")
    assert facts.columns["sensor_id"].type_name == "integer"
    assert facts.columns["buoy_id"].distinct_values(facts.rows) == pytest.approx(400, rel=0.05)
    assert session.support(Capability.UNCOMMITTED_INDEX)
    memory = session.support(Capability.PLANNING_MEMORY)
    assert bool(memory) == (server.major >= 17)
    assert memory or ("PostgreSQL 17" in memory.reason and memory.remedy)


def test_odd_names_and_expressions_in_the_catalogue(server: Server) -> None:
    server.do('CREATE SCHEMA IF NOT EXISTS "Odd"')
    server.do('DROP TABLE IF EXISTS "Odd"."T é"')
    server.do('CREATE TABLE "Odd"."T é" ("select" int, "B c" text, d date)')
    server.do(
        'CREATE INDEX "i é" ON "Odd"."T é" (lower("B c") DESC, "select") INCLUDE (d) '
        'WHERE "select" > 5'
    )
    name = TableName("Odd", "T é")
    session = PostgresSession(server.url, Limits())
    facts = session.tables([name])[name]
    (index,) = facts.indexes
    assert index.key_columns == ("", "select") and index.included == ("d",)
    assert index.keys[0].expression == 'lower("B c")' and index.keys[0].descending
    assert "select" in index.predicate
    assert session.rows_matching(name, "t", ['t."select" = 1']) >= 1
    assert session.rows_per_value(name, ["select"]) >= 1
    session.close()
    server.do('DROP TABLE "Odd"."T é"')


def test_predictions_agree_with_really_building(session: PostgresSession, server: Server) -> None:
    """Median ratio within 5 %, and no prediction wrong by more than twice."""
    ratios = []
    predictor = FormulaPredictor(session.costs, session)
    sizes = []
    for each in load_workload():
        if each.name[:2] not in ("01", "04", "10", "19", "20"):
            continue
        statement = Statement(each.sql, tuple(str(v) for v in each.value_sets[0]))
        plan = session.explain(statement).plan
        tables = session.tables(table_names(plan))
        reads = list(accesses(plan, tables))
        for candidate in candidates(plan, tables):
            predicted = predictor.outlook(Asked(statement, plan, reads), [candidate.design])
            real, size = _really(server, candidate.design.create_sql("probe_ix"), statement)
            ratios.append(predicted.cost / real)
            shape = predictor.shape(candidate.design, candidate.access.table)
            sizes.append(shape.size_bytes(8192) / size)
    assert len(ratios) >= 10
    assert 0.95 <= statistics.median(ratios) <= 1.05, sorted(ratios)
    assert min(ratios) >= 0.5 and max(ratios) <= 2.0, sorted(ratios)
    assert 0.95 <= statistics.median(sizes) <= 1.05, sorted(sizes)


def _really(server: Server, create: str, statement: Statement) -> tuple[float, int]:
    with psycopg.connect(server.url, prepare_threshold=None) as connection:
        connection.execute(create.encode())
        cursor = psycopg.RawCursor(connection)
        cursor.execute(b"EXPLAIN (FORMAT JSON) " + statement.sql.encode(), statement.values)
        row = cursor.fetchone()
        size = connection.execute("SELECT pg_relation_size('probe_ix')").fetchone()
        connection.rollback()
    assert row is not None and size is not None
    return row[0][0]["Plan"]["Total Cost"], size[0]


def index_change(name: str, on: str) -> Change:
    """The change "build this index"."""
    build = f"CREATE INDEX {name} ON {on}"
    online = f"CREATE INDEX CONCURRENTLY {name} ON {on}"
    return Change((NewIndex("public", name, build, online, f"DROP INDEX IF EXISTS {name}"),))


def _experiment(server: Server, mark: str = "t0@test"):  # type: ignore[no-untyped-def]
    return (
        PostgresEngine()
        .connect(server.url, mark=mark)
        .experiment(index_change("trial_ix", "reading (sensor_id)"))
    )


def test_only_one_arm_sees_the_index_and_nothing_is_left(server: Server) -> None:
    before = server.fetch(CATALOGUE)
    with _experiment(server) as experiment:
        inside = experiment.after.explain(SENSOR, measure=False).plan
        outside = experiment.before.explain(SENSOR, measure=False).plan
        assert inside.uses_index("trial_ix") and not outside.uses_index("trial_ix")
        rows = [sorted(arm.result_rows(SENSOR)) for arm in (experiment.before, experiment.after)]
        assert rows[0] == rows[1] and len(rows[0]) > 100
        (build,) = experiment.builds
        assert build.build_ms > 0 and build.size_bytes > 3e6 and not build.unusable_because
        with pytest.raises(RefusedForSafety):
            experiment.after.run(Statement("DELETE FROM visit"))
        with pytest.raises(StatementRejected):
            experiment.after.run(Statement("SELECT nothing"))
        assert experiment.after.run(SENSOR).rows == len(rows[0]), "a failed run ends nothing"
    assert server.fetch(CATALOGUE) == before
    assert not PostgresEngine().connect(server.url, mark="t0@test").leftovers([]), (
        "its sessions are gone"
    )


def test_an_index_on_an_expression_gets_statistics_that_go_with_it(server: Server) -> None:
    kept = "SELECT count(*) FROM pg_stats WHERE tablename = 'words_ix'"
    statement = Statement("SELECT count(*) FROM alert WHERE upper(code) = $1", ("E-1417",))
    change = index_change("words_ix", "alert (upper(code))")
    with PostgresEngine().connect(server.url, mark="t0@test").experiment(change) as experiment:
        plan = experiment.after.explain(statement, measure=False).plan
        assert plan.uses_index("words_ix")
        scan = next(n for n in plan.nodes() if n.index == "words_ix")
        assert (scan.rows_expected or 0) < 100, "without statistics it would be 300"
    assert server.fetch(kept) == [(0,)]


def test_a_table_that_a_writer_holds_is_not_waited_for(server: Server) -> None:
    with psycopg.connect(server.url) as writer:
        writer.execute("UPDATE reading SET quality = quality WHERE reading_id = 5")
        start = time.monotonic()
        engine, limits = PostgresEngine(), Limits(lock_ms=300)
        with pytest.raises(LockNotGranted):
            engine.connect(server.url, limits, "t").experiment(
                index_change("trial_ix", "reading (value)")
            ).__enter__()
        assert time.monotonic() - start < 60, "the writer would have held it for ever"
        writer.rollback()


def test_an_index_the_server_would_ignore_is_told(server: Server) -> None:
    server.do("DROP TABLE IF EXISTS chain")
    server.do("CREATE TABLE chain (a int, b int) WITH (fillfactor = 50)")
    server.do("INSERT INTO chain SELECT g, g FROM generate_series(1, 5000) g")
    with psycopg.connect(server.url) as old:
        old.isolation_level = psycopg.IsolationLevel.REPEATABLE_READ
        old.execute("SELECT count(*) FROM chain")
        server.do("UPDATE chain SET b = b + 1 WHERE a < 100")
        with (
            PostgresEngine()
            .connect(server.url, mark="t")
            .experiment(index_change("chain_ix", "chain (b)")) as experiment
        ):
            assert "older transactions" in experiment.builds[0].unusable_because
    server.do("DROP TABLE chain")


def test_an_online_index_is_dropped_though_ctrl_c_left_its_connection_busy(server: Server) -> None:
    """Dropping waits for every transaction on the table, which ours must not be."""
    there = "SELECT count(*) FROM pg_class WHERE relname = 'busy_ix'"
    change = index_change("busy_ix", "visit (minutes)")
    with PostgresEngine().connect(server.url, mark="t7@test").stages(change, online=True) as stages:
        stages.make()
        assert server.fetch(there) == [(1,)]
        connection = stages.arm._connection  # type: ignore[attr-defined]
        connection.execute("BEGIN READ ONLY")
        connection.execute("SELECT count(*) FROM public.visit")
        connection.pgconn.send_query(b"SELECT pg_sleep(60)")
    assert server.fetch(there) == [(0,)]


def test_leftovers_are_found_and_removed(server: Server) -> None:
    engine = PostgresEngine()
    ours, kept = "left_ix__t5_abcd", "left_ix"
    server.do(f"CREATE INDEX {ours} ON visit (minutes); CREATE INDEX {kept} ON visit (minutes)")
    held = threading.Event()

    def hold() -> None:
        with (
            pytest.raises(psycopg.OperationalError),
            psycopg.connect(server.url, application_name="humble-ledger t5@abcd") as connection,
        ):
            connection.execute("SELECT 1")
            held.set()
            time.sleep(0.2)
            connection.execute("SELECT pg_sleep(30)")

    holder = threading.Thread(target=hold)
    holder.start()
    held.wait(10)
    recorded = [("public", name) for name in (ours, kept, "other_ix")]
    marked = engine.connect(server.url, mark="t5@abcd")
    left = marked.leftovers(recorded)
    assert left.indexes == (("public", ours),), "a finished one without the mark is wanted"
    assert len(left.processes) == 1
    marked.remove_leftovers(left)
    holder.join(20)
    assert not holder.is_alive()
    assert not marked.leftovers(recorded)
    server.do(f"UPDATE pg_index SET indisvalid = false WHERE indexrelid = '{kept}'::regclass")
    assert marked.leftovers(recorded).indexes == (("public", kept),)
    elsewhere = [("elsewhere", kept), ("elsewhere", ours)]
    assert not marked.leftovers(elsewhere)
    server.do(f"DROP INDEX {kept}")


def _counted(server: Server, what: str, changes: int) -> None:
    """Wait until the server counts as many changes: a session reports them when it ends."""
    text = f"SELECT {what} FROM pg_stat_user_tables WHERE relname = 'filled'"
    give_up = time.monotonic() + PATIENCE_S
    while server.fetch(text) != [(changes,)]:
        assert time.monotonic() < give_up, server.fetch(text)
        time.sleep(0.1)


def test_statistics_are_stale_by_what_the_server_says_of_each_table(server: Server) -> None:
    name = TableName("public", "filled")
    server.do(
        "CREATE TABLE filled (n int) WITH (autovacuum_analyze_scale_factor = 0.5, "
        "autovacuum_analyze_threshold = 100)"
    )
    try:
        with psycopg.connect(server.url, autocommit=True) as connection:
            connection.execute("INSERT INTO filled SELECT generate_series(1, 40000)")
            connection.execute("ANALYZE filled")
        _counted(server, "n_tup_ins", 40_000)
        with contextlib.closing(PostgresSession(server.url, Limits())) as session:
            assert not session.tables([name])[name].is_stale
            server.do("UPDATE filled SET n = n WHERE n <= 12000")
            _counted(server, "n_tup_upd", 12_000)
            server.do("ANALYZE filled")
            server.do("UPDATE filled SET n = n WHERE n <= 12000")
            _counted(server, "n_tup_upd", 24_000)
            facts = session.tables([name])[name]
            assert facts.stale_after_changes == pytest.approx(20_100, rel=0.05)
            assert facts.changes_unseen == 12_000 and not facts.is_stale
            server.do("UPDATE filled SET n = n WHERE n <= 12000")
            _counted(server, "n_tup_upd", 36_000)
            assert session.tables([name])[name].is_stale
    finally:
        server.do("DROP TABLE filled")
