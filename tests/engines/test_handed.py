"""Targets made of files: what they hold is read as text, and planned with as on the server."""

from __future__ import annotations

import subprocess
import tempfile
from pathlib import Path

import pytest

from humble_ledger.engines.launching import keeping
from humble_ledger.engines.postgresql.hollow import named
from humble_ledger.engines.postgresql.hollow.handed import Handed, Sizes, read_handed
from humble_ledger.errors import UnreadableInput
from tests.conftest import FOUND, NEEDED_MAJOR, Server
from tests.program import Program

BINARIES = FOUND[NEEDED_MAJOR]
SCHEMA = """\
--
-- PostgreSQL database dump
--
\\restrict abc
-- Dumped from database version 14.2
SET client_encoding = 'UTF8';
CREATE TABLE public.buoy (id integer NOT NULL, name text);
ALTER TABLE public.buoy OWNER TO keeper;
COMMENT ON TABLE public.buoy IS 'a; b';
COPY public.buoy (id, name) FROM stdin;
1\t'; DROP TABLE public.buoy; --
\\.
SELECT pg_catalog.setval('public.buoy_id_seq', 7, true);
CREATE UNIQUE INDEX buoy_name ON public.buoy USING btree (lower(name));
ALTER TABLE ONLY public.buoy
    ADD CONSTRAINT buoy_pkey PRIMARY KEY (id);
GRANT ALL ON TABLE public.buoy TO keeper;
\\unrestrict abc
"""
STATISTICS = """\
SELECT * FROM pg_catalog.pg_restore_relation_stats(
\t'version', '180000'::integer,
\t'schemaname', 'public',
\t'relname', 'buoy',
\t'relpages', '120'::integer,
\t'reltuples', '9000'::real,
\t'relallvisible', '100'::integer
);
SELECT * FROM pg_catalog.pg_restore_attribute_stats(
\t'version', '180000'::integer,
\t'schemaname', 'public',
\t'relname', 'buoy',
\t'attname', 'name',
\t'inherited', 'f'::boolean,
\t'null_frac', '0.25'::real,
\t'avg_width', '9'::integer,
\t'n_distinct', '-0.5'::real,
\t'most_common_vals', '{"it''s, so","b''), (''c"}'::text,
\t'most_common_freqs', '{0.1,0.05}'::real[]
);
SELECT * FROM pg_catalog.pg_restore_attribute_stats(
\t'version', '180000'::integer,
\t'schemaname', 'public',
\t'relname', 'buoy_name',
\t'attnum', '1'::smallint,
\t'inherited', 'f'::boolean,
\t'n_distinct', '-1'::real
);
"""
# Tables of its own: what other tests roll back makes files longer than statistics tell.
TABLES = (
    "CREATE SCHEMA handed; "
    "CREATE TABLE handed.berth AS SELECT n AS berth_id, n % 40 AS quay, 'berth ' || n AS name "
    "FROM generate_series(1, 20000) n; ALTER TABLE handed.berth ADD PRIMARY KEY (berth_id); "
    "CREATE TABLE handed.mooring AS SELECT n AS mooring_id, n * 7 % 20000 AS berth_id, "
    "n % 90 AS hours FROM generate_series(1, 60000) n; "
    "ALTER TABLE handed.mooring ADD PRIMARY KEY (mooring_id)"
)
STATEMENTS = (
    "SELECT mooring_id, hours FROM handed.mooring WHERE berth_id = 7",
    "SELECT b.name, count(*) FROM handed.berth b JOIN handed.mooring m USING (berth_id) "
    "WHERE m.hours = 5 GROUP BY 1 ORDER BY 2 DESC LIMIT 5",
    "SELECT b.berth_id FROM handed.berth b WHERE EXISTS (SELECT FROM handed.mooring m WHERE "
    "m.berth_id = b.berth_id AND m.hours > 80)",
    "SELECT * FROM handed.mooring WHERE mooring_id > 59000 ORDER BY mooring_id",
)


def read(folder: Path, *texts: str) -> Handed:
    paths = []
    for number, text in enumerate(texts):
        paths.append(folder / f"{number}.sql")
        paths[-1].write_text(text)
    return read_handed(paths, BINARIES)


def test_files_are_read_as_text_and_nothing_of_the_data_is_kept(tmp_path: Path) -> None:
    found = read(tmp_path, SCHEMA, STATISTICS)
    assert found.major == 14 and found.rows_left_out
    assert [text.split("(")[0].strip() for text in found.before] == [
        "SET client_encoding = 'UTF8'", "CREATE TABLE public.buoy",
    ]  # fmt: skip
    assert [text.split()[0] for text in found.after] == ["CREATE", "ALTER"]
    assert found.sizes == {("public", "buoy"): Sizes(120, 9000.0, 100)}
    (column,), (numbered,) = found.columns, found.numbered
    assert (column.column, column.null_share, column.distinct) == ("name", 0.25, -0.5)
    assert column.common == '{"it\'s, so","b\'), (\'c"}' and column.bounds is None
    assert (numbered.number, numbered.statistics.table) == (1, "buoy_name")
    assert any("rows in the files were left out" in note for note in found.notes)


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "No table is made"),
        (STATISTICS, "No table is made"),
        (SCHEMA + STATISTICS.replace("'0.25'", "'much'"), "cannot be read"),
        (SCHEMA + STATISTICS.replace("'120'", "'1; DROP'"), "cannot be read"),
    ],
)
def test_files_that_hold_no_schema(tmp_path: Path, text: str, said: str) -> None:
    with pytest.raises(UnreadableInput, match=said):
        read(tmp_path, text)


def test_files_that_are_none(tmp_path: Path) -> None:
    with pytest.raises(UnreadableInput, match=r"none\.sql cannot be read"):
        read_handed([tmp_path / "none.sql"], BINARIES)
    (tmp_path / "bad.dump").write_bytes(b"PGDMP\x00\x01nonsense")
    with pytest.raises(UnreadableInput, match=r"bad\.dump cannot be read"):
        read_handed([tmp_path / "bad.dump"], BINARIES)


HOSTILE = """\
CREATE TABLE public.buoy (id integer NOT NULL, name text);
COPY (SELECT 1) TO PROGRAM 'touch {marker}';
COPY public.buoy TO '{marker}';
SELECT pg_catalog.lo_export(1, '{marker}');
DO $$ BEGIN PERFORM pg_sleep(100000); END $$;
SELECT pg_sleep(100000);
BEGIN;
SET ROLE humble;
SET SESSION AUTHORIZATION humble;
SET statement_timeout = 0;
CREATE ROLE thief SUPERUSER LOGIN;
ALTER ROLE hollow SUPERUSER;
ALTER SYSTEM SET archive_command = 'touch {marker}';
CREATE FUNCTION public.c() RETURNS integer LANGUAGE c AS '/lib/x86_64-linux-gnu/libc.so.6', 'abort';
CREATE FUNCTION public.ends(integer) RETURNS integer LANGUAGE plpgsql IMMUTABLE AS
    $$ BEGIN PERFORM pg_terminate_backend(pg_backend_pid()); RETURN $1; END $$;
CREATE EXTENSION IF NOT EXISTS dblink WITH SCHEMA public;
CREATE SERVER away FOREIGN DATA WRAPPER postgres_fdw OPTIONS (host '127.0.0.1');
\\! touch {marker}
"""


def test_files_full_of_attacks_harm_nothing(humble: Program) -> None:
    with tempfile.TemporaryDirectory(dir="/var/tmp") as folder:
        Path(folder).chmod(0o777)  # the server's own user could write there
        text = HOSTILE.replace("{marker}", f"{folder}/marked")
        (humble.folder / "bad.sql").write_text(text)
        made = humble.json("hollow", "build", "--name", "bad", "--from", "bad.sql")
        told = " ".join(made["notes"])
        assert "does without this extension" in told and "permission denied" in told
        humble.ok("init", "hollow:bad")
        plan = humble.json("plan", "SELECT * FROM buoy WHERE id = 7")
        assert plan["cost_total"] > 0
        # One whose index ends every session that builds it is refused in a sentence.
        worse = ";CREATE INDEX ends ON public.buoy (public.ends(id));"
        (humble.folder / "worse.sql").write_text(text + worse)
        done = humble.run("hollow", "build", "--name", "bad", "--from", "worse.sql")
        assert done.code in (0, 4) and "Traceback" not in done.err, done.err
        assert list(Path(folder).iterdir()) == []
    humble.ok("hollow", "drop", "bad")


def dump(url: str, to: Path, *options: str) -> str:
    command = [BINARIES.program("pg_dump"), *options, "--file", str(to), url]
    subprocess.run(command, check=True)
    return str(to)


def test_what_a_database_administrator_hands_over_is_a_target(
    humble: Program, server: Server
) -> None:
    for text in (*TABLES.split("; "), "VACUUM ANALYZE handed.berth, handed.mooring"):
        server.do(text)
    try:
        schema = dump(server.url, humble.folder / "schema.sql", "--schema-only")
        values = dump(server.url, humble.folder / "values.sql", "--statistics-only")
        _tried(humble, server, schema, values)
    finally:
        server.do("DROP SCHEMA handed CASCADE")


def _tried(humble: Program, server: Server, schema: str, values: str) -> None:
    name, target = f"handed{server.major}", f"hollow:handed{server.major}"
    settings = [f"--set={n}={v}" for n, v in server.fetch(
        "SELECT name, current_setting(name) FROM pg_settings WHERE category LIKE 'Query Tuning%' "
        "AND setting <> boot_val AND context = 'user'")]  # fmt: skip
    made = humble.json(
        "hollow", "build", "--name", name, "--from", schema, "--from", values, *settings
    )
    assert made["target"] == target
    humble.ok("init", target)
    for text in STATEMENTS:
        here = humble.json("plan", text)
        there = humble.json("plan", text, "--target", server.url)
        assert here["cost_total"] == pytest.approx(there["cost_total"], rel=0.02), text
    proposed = humble.json("propose", STATEMENTS[0])["remedies"]
    assert proposed[0]["queries"][0]["way"] == "planner"
    assert "without rows" in humble.fails(2, "plan", STATEMENTS[0], "--measure")
    assert "without rows" in humble.fails(2, "capture", "server")
    tried = humble.json("trial", STATEMENTS[0], "--remedy", proposed[0]["id"])
    assert "without rows" in tried["not_tried"] and not tried["queries"]
    # Left by a kill in the middle, it is made again from its copies of the files.
    folder = next(folder for _, folder in named.kept() if folder.name.endswith(f"-{name}"))
    (folder / keeping.OPEN).touch()
    (folder / "data" / "PG_VERSION").unlink()
    for given in (schema, values):
        Path(given).unlink()
    again = humble.json("suppose", STATEMENTS[0], "--index", "handed.mooring (berth_id)")
    assert again["queries"][0]["cost_after"] < again["queries"][0]["cost_before"]
    assert target in humble.ok("hollow", "list").out
    humble.ok("hollow", "drop", name)
    assert "There is no hollow" in humble.fails(2, "plan", "SELECT 1", "--target", target)


def test_what_hollow_build_refuses(humble: Program) -> None:
    (humble.folder / "schema.sql").write_text(SCHEMA)
    assert "needs --from and --name" in humble.fails(2, "hollow", "build", "--from", "schema.sql")
    odd = humble.fails(2, "hollow", "build", "--from", "schema.sql", "--name", "../x")
    assert "small letters" in odd
    unknown = humble.fails(
        2, "hollow", "build", "--from", "schema.sql", "--name", "odd", "--set", "shared_buffers=1GB"
    )
    assert "no setting of the planner" in unknown
    assert "There is no hollow odd" in humble.fails(2, "hollow", "drop", "odd")
