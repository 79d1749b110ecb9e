"""A server full of things that act, and a watch that sees when any of them did."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

import psycopg

from humble_ledger.engines.postgresql.launcher import Cluster

DATABASE = "guarded"

# Whatever acts leaves a trace: a row of `traces` by way of another session (dblink), a lock, a
# sequence that moved, a notification, a file, a large object, a session that is gone.
SCHEMA = r"""
CREATE EXTENSION dblink;
CREATE EXTENSION postgres_fdw;
CREATE SCHEMA app;
CREATE TABLE precious (id integer PRIMARY KEY, note text, amount numeric, keeper_id integer);
INSERT INTO precious SELECT n, 'note ' || n, n, n % 10 FROM generate_series(1, 3000) AS n;
CREATE TABLE traces (at timestamptz DEFAULT now(), what text);
CREATE SEQUENCE numbers;
CREATE FUNCTION app.trace(what text) RETURNS integer LANGUAGE sql VOLATILE AS
    $$ SELECT 1 FROM dblink_exec('dbname={database} host={host} user={user}',
        format('INSERT INTO public.traces (what) VALUES (%L)', what)) AS done $$;
CREATE FUNCTION app.bump() RETURNS integer LANGUAGE plpgsql VOLATILE AS
    $$ BEGIN RETURN app.trace('bump'); END $$;
-- It lies: the planner calls it.
CREATE FUNCTION app.lying(x integer) RETURNS integer LANGUAGE plpgsql IMMUTABLE AS
    $$ BEGIN PERFORM app.trace('lying'); RETURN x; END $$;
CREATE FUNCTION app.lying_sql(x integer) RETURNS integer LANGUAGE sql IMMUTABLE AS
    $$ SELECT app.lying(x) $$;
CREATE FUNCTION app.harmless(x integer) RETURNS integer LANGUAGE sql IMMUTABLE AS
    $$ SELECT x + 1 $$;
CREATE FUNCTION app.opaque(x integer) RETURNS integer LANGUAGE plpgsql IMMUTABLE AS
    $$ BEGIN RETURN x + 1; END $$;
CREATE VIEW app.bumping AS SELECT id, app.bump() AS done FROM precious;
CREATE VIEW app.above AS SELECT * FROM app.bumping;
CREATE VIEW app.killing AS SELECT id, pg_terminate_backend({victim}) AS gone FROM precious;
CREATE FUNCTION app.row_bump(p precious) RETURNS integer LANGUAGE plpgsql VOLATILE AS
    $$ BEGIN RETURN app.trace('row'); END $$;
CREATE FUNCTION app.plus(a integer, b text) RETURNS integer LANGUAGE plpgsql VOLATILE AS
    $$ BEGIN RETURN app.trace('operator'); END $$;
CREATE OPERATOR public.|+| (LEFTARG = integer, RIGHTARG = text, FUNCTION = app.plus);
CREATE TYPE app.pair AS (a integer, b integer);
CREATE FUNCTION app.as_pair(x integer) RETURNS app.pair LANGUAGE plpgsql VOLATILE AS
    $$ BEGIN PERFORM app.trace('cast'); RETURN (x, x)::app.pair; END $$;
CREATE CAST (integer AS app.pair) WITH FUNCTION app.as_pair(integer);
CREATE FUNCTION app.checked(x text) RETURNS boolean LANGUAGE plpgsql VOLATILE AS
    $$ BEGIN PERFORM app.trace('domain'); RETURN true; END $$;
CREATE DOMAIN app.checked_text AS text CHECK (app.checked(VALUE));
CREATE TABLE guarded_rows (id integer, note text);
INSERT INTO guarded_rows SELECT n, 'x' FROM generate_series(1, 3000) AS n;
CREATE FUNCTION app.policy() RETURNS boolean LANGUAGE plpgsql VOLATILE AS
    $$ BEGIN PERFORM app.trace('policy'); RETURN true; END $$;
ALTER TABLE guarded_rows ENABLE ROW LEVEL SECURITY;
ALTER TABLE guarded_rows FORCE ROW LEVEL SECURITY;
CREATE POLICY all_rows ON guarded_rows USING (app.policy());
CREATE TABLE triggered (id serial, note text DEFAULT 'd');
INSERT INTO triggered (note) SELECT 'x' FROM generate_series(1, 3000);
CREATE FUNCTION app.on_change() RETURNS trigger LANGUAGE plpgsql AS
    $$ BEGIN PERFORM app.trace('trigger'); RETURN NEW; END $$;
CREATE TRIGGER acting BEFORE UPDATE ON triggered FOR EACH ROW EXECUTE FUNCTION app.on_change();
CREATE AGGREGATE app.summed (integer) (SFUNC = app.step, STYPE = integer, INITCOND = '0');
CREATE SERVER elsewhere FOREIGN DATA WRAPPER postgres_fdw
    OPTIONS (host '{host}', dbname '{database}');
CREATE USER MAPPING FOR PUBLIC SERVER elsewhere OPTIONS (user '{user}');
CREATE FOREIGN TABLE away (id integer, done integer) SERVER elsewhere
    OPTIONS (schema_name 'app', table_name 'bumping');
CREATE TABLE parted (id integer, note text) PARTITION BY LIST (id);
CREATE FOREIGN TABLE parted_away PARTITION OF parted FOR VALUES IN (1) SERVER elsewhere
    OPTIONS (schema_name 'app', table_name 'bumping');
ANALYZE precious, triggered, guarded_rows;
"""
STEP = """
CREATE FUNCTION app.step(a integer, b integer) RETURNS integer LANGUAGE plpgsql VOLATILE AS
    $$ BEGIN PERFORM app.trace('aggregate'); RETURN a + b; END $$;
"""
STATE = {
    "tables": "SELECT c.oid::regclass::text, c.relkind, c.reltuples FROM pg_class c JOIN "
    "pg_namespace n ON n.oid = c.relnamespace WHERE nspname IN ('public', 'app') ORDER BY 1",
    "rows": "SELECT count(*), sum(amount), max(note) FROM precious",
    "changed": "SELECT count(*), max(note), count(DISTINCT note) FROM triggered",
    "traces": "SELECT what, count(*) FROM traces GROUP BY 1",
    "sequences": "SELECT last_value, is_called FROM numbers",
    "serial": "SELECT last_value, is_called FROM triggered_id_seq",
    "functions": "SELECT count(*), max(oid) FROM pg_proc",
    "roles": "SELECT rolname, rolsuper FROM pg_authid ORDER BY 1",
    "settings": "SELECT setdatabase, setrole, setconfig FROM pg_db_role_setting ORDER BY 1, 2",
    "large objects": "SELECT count(*) FROM pg_largeobject_metadata",
    "advisory locks": "SELECT count(*) FROM pg_locks WHERE locktype = 'advisory'",
    "slots": "SELECT count(*) FROM pg_replication_slots",
    "prepared": "SELECT count(*) FROM pg_prepared_xacts",
    "publications": "SELECT count(*) FROM pg_publication",
    "origins": "SELECT count(*) FROM pg_replication_origin",
    "schemas": "SELECT count(*) FROM pg_namespace WHERE nspname NOT LIKE 'pg_t%'",
}


@dataclass
class Guarded:
    """The server, its URL, and a session that listens and that attacks try to end."""

    url: str
    cluster: Cluster
    victim: psycopg.Connection[tuple[object, ...]]
    marks: Path
    notified: list[str] = field(default_factory=list)

    @property
    def major(self) -> int:
        """The server's major version, such as 18."""
        return int(self.cluster.version.split(".")[0])

    def state(self) -> dict[str, object]:
        """Everything an attack could change, in one document that compares."""
        with psycopg.connect(self.url, autocommit=True) as connection:
            connection.execute("SET search_path = pg_catalog, public")
            found: dict[str, object] = {
                name: connection.execute(sql.encode()).fetchall() for name, sql in STATE.items()
            }
        found["files"] = sorted(p.name for p in self.marks.iterdir())
        self.victim.execute("SELECT 1")  # raises when it was ended; takes notifications in
        found["notified"] = [n.payload for n in self.victim.notifies(timeout=0)]
        return found

    def listening_sockets(self) -> int:
        """TCP sockets that listen in this network namespace."""
        lines = Path("/proc/net/tcp").read_text().splitlines()[1:]
        return sum(line.split()[3] == "0A" for line in lines)

    def do(self, sql: str) -> None:
        """Change something on purpose."""
        with psycopg.connect(self.url, autocommit=True) as connection:
            connection.execute(sql.encode())


@contextmanager
def guarded_server(cluster: Cluster, marks: Path) -> Iterator[Guarded]:
    """Fill a server that runs, and watch over it."""
    with psycopg.connect(cluster.url("postgres"), autocommit=True) as connection:
        connection.execute(f"CREATE DATABASE {DATABASE}")
    url = cluster.url(DATABASE)
    victim = psycopg.connect(url, autocommit=True, application_name="victim")
    fitted = (
        SCHEMA.replace("{host}", str(cluster.folder))
        .replace("{database}", DATABASE)
        .replace("{user}", "humble")
        .replace("{victim}", str(victim.info.backend_pid))
    )
    before, _, after = fitted.partition("CREATE AGGREGATE")
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute((before + STEP + "CREATE AGGREGATE" + after).encode())
    victim.execute("LISTEN news")
    marks.mkdir(exist_ok=True)
    os.chmod(marks, 0o777)
    try:
        yield Guarded(url, cluster, victim, marks)
    finally:
        victim.close()
