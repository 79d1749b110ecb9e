"""A hollow is kept while it is true, nothing of it is left behind, and nothing escapes from it."""

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

from humble_ledger.core.costs.model import IndexShape
from humble_ledger.core.remedies.index_text import parse_index
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.launching.keeping import FOLDER_VARIABLE
from humble_ledger.engines.postgresql.engine import PostgresEngine
from humble_ledger.engines.postgresql.hollow.asking import PostgresHollow
from humble_ledger.engines.postgresql.hollow.house import (
    MOST_KEPT,
    House,
    Record,
    all_kept,
    kept_houses,
    removed,
)
from humble_ledger.engines.postgresql.hollow.outline import known_settings
from humble_ledger.engines.postgresql.launcher import Cluster
from humble_ledger.engines.postgresql.session import PostgresSession
from humble_ledger.errors import HumbleError, RefusedForSafety
from tests.conftest import FOUND, MAJORS
from tests.engines.hollow_schema import STATEMENTS

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
CREATE RULE also AS ON DELETE TO bait DO ALSO SELECT acts(2);
ALTER TABLE bait ENABLE ALWAYS RULE also;
CREATE STATISTICS tempting ON (acts(w + 1)), v FROM bait;
CREATE ROLE visitor LOGIN;
GRANT SELECT ON bait TO visitor;
"""
# Computed whenever a statement on the table is planned, with the rights of whoever does it.
OF_ANOTHER = """
CREATE ROLE rower;
CREATE SCHEMA pier AUTHORIZATION rower;
SET ROLE rower;
CREATE FUNCTION pier.writes() RETURNS integer LANGUAGE plpgsql AS $$
BEGIN EXECUTE format('COPY (SELECT 1) TO PROGRAM %L', 'cat > {0}'); RETURN 1;
EXCEPTION WHEN insufficient_privilege THEN RETURN 2; END $$;
CREATE FUNCTION pier.plans() RETURNS integer LANGUAGE plpgsql IMMUTABLE AS
    $$ BEGIN RETURN pier.writes(); END $$;
CREATE TABLE pier.lure (id integer PRIMARY KEY);
INSERT INTO pier.lure SELECT generate_series(1, 60000);
CREATE INDEX ON pier.lure ((id + pier.plans()));
ANALYZE pier.lure;
RESET ROLE;
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
    # The target's own analysis acts as the owner of the table, whenever it comes round.
    with Cluster(FOUND[MAJORS[0]], {"autovacuum": "off"}) as cluster:
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
        with PostgresEngine().connect(url).hollow() as made:
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
        with psycopg.connect(url, autocommit=True) as server:
            server.execute("DELETE FROM bait WHERE id > 400")
            server.execute("ANALYZE bait")
        assert acted.exists()
        acted.unlink()
        said: list[str] = []
        with PostgresEngine().connect(url).hollow(progress=said.append):
            assert any("up to date" in words for words in said), said
        assert not acted.exists()
        # For whom the policy holds, it is made there, too.
        with (
            PostgresEngine().connect(url.replace("humble@", "visitor@")).hollow(keep=False) as made
        ):
            assert isinstance(made, PostgresHollow)
            found = made.standing.admin.execute("SELECT count(*) FROM pg_policy").fetchone()
            assert found == (1,)
            with pytest.raises(RefusedForSafety):
                made.explain(Statement("SELECT * FROM bait WHERE w = 1"), {})
        assert not acted.exists()


def test_functions_of_another_owner_do_not_run_with_the_users_rights(anybodys: Path) -> None:
    acted = anybodys / "acted"
    with Cluster(FOUND[MAJORS[0]], {"autovacuum": "off"}) as cluster:
        url = cluster.url("postgres")
        with psycopg.connect(url, autocommit=True) as server:
            server.execute(OF_ANOTHER.replace("{0}", str(acted)).encode())
            assert not acted.exists()
            server.execute("CREATE TABLE ours AS SELECT generate_series(1, 100) AS id")
            server.execute("EXPLAIN SELECT FROM pier.lure ORDER BY id")
        assert acted.exists()
        acted.unlink()
        with PostgresEngine().connect(url).hollow(keep=False) as made:
            made.explain(Statement("SELECT * FROM ours WHERE id = 1"), {})
        assert not acted.exists()
        assert any("pier.lure" in note for note in made.notes)


def test_nothing_is_left_when_the_program_is_killed(target: str, tmp_path: Path) -> None:
    script = textwrap.dedent(f"""
        import time
        from humble_ledger.engines.postgresql.engine import PostgresEngine
        with PostgresEngine().connect({target!r}).hollow(keep=False) as made:
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
        with PostgresEngine().connect(target).hollow() as made:
            first = made.explain(statement, {}).plan.cost_total
        (house,) = kept_houses()
        (record,) = [r for r, place in all_kept() if place == house]
        assert house.stat().st_mode & 0o077 == 0
        with PostgresEngine().connect(target).hollow() as made:
            assert made.explain(statement, {}).plan.cost_total == first
        assert [r for r, place in all_kept() if place == house] == [record]
        with psycopg.connect(target, autocommit=True) as server:
            server.execute("CREATE INDEX fresh ON quay.boat (name)")
        with PostgresEngine().connect(target).hollow() as made:
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
        with PostgresEngine().connect({target!r}).hollow() as made:
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
            with PostgresEngine().connect(target).hollow() as made:
                assert (
                    made.explain(Statement(STATEMENTS[3]), {}).plan.cost_total == there.cost_total
                )
            time.sleep(1)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def test_settings_are_taken_over_by_our_servers_list(target: str) -> None:
    """A target may call anything a planner's setting; some would have a server load a library."""
    with PostgresEngine().connect(target).hollow(keep=False) as made:
        assert isinstance(made, PostgresHollow)
        known = known_settings(made.standing.admin)
        assert "random_page_cost" in known and "work_mem" in known
        assert not {n for n in known if "librar" in n or "role" in n or "path" in n}


def test_only_so_many_hollows_are_kept(tmp_path: Path) -> None:
    house = House(None, tmp_path)  # type: ignore[arg-type]
    for number in range(MOST_KEPT + 2):
        made_at = f"2026-11-{number + 1:02d}T00:00:00+00:00"
        house.keep(Record(f"hollow_{number}", "postgresql://here", made_at, "", "18"))
    assert house.too_many() == ["hollow_0", "hollow_1"]
    house.forget("hollow_0")
    assert house.too_many() == ["hollow_1"] and len(house.records()) == MOST_KEPT + 1


def test_a_server_that_breaks_down_is_told_and_thrown_away(target: str) -> None:
    text = Statement('SELECT * FROM "Odd Table" WHERE "select" = 5')
    design = parse_index('"Odd Table" ("select")', "public")
    with PostgresEngine().connect(target).hollow() as made:
        before = made.explain(text, {}).plan.cost_total
        pid = made.standing.admin.info.backend_pid
        os.kill(pid, signal.SIGKILL)  # the server ends all sessions, and starts over
        with pytest.raises(HumbleError):
            made.explain(text, {design: IndexShape(40, 1, 20_000.0)})
    with PostgresEngine().connect(target).hollow() as again:
        assert again.explain(text, {}).plan.cost_total == before
