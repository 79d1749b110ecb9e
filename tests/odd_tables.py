"""A database of its own with tables of every kind, for what is proposed on them."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

import psycopg

from tests.conftest import Server

DATABASE = "odd"
SCHEMA = """
CREATE SCHEMA "Über Wache";
CREATE TABLE "Über Wache"."Boje" ("Nr" int PRIMARY KEY, "select" int NOT NULL, "x y" text,
    "größe" numeric);
INSERT INTO "Über Wache"."Boje" SELECT n, n % 4000, 'b' || n, n FROM generate_series(1, 40000) n;
CREATE TABLE tiny (id int PRIMARY KEY, kind text);
INSERT INTO tiny SELECT n, 'k' || n FROM generate_series(1, 10) n;
CREATE TABLE nothing (id int PRIMARY KEY, kind text);
CREATE VIEW late AS SELECT "Nr" AS number, "select" AS kind FROM "Über Wache"."Boje";
CREATE TABLE measure (at date NOT NULL, buoy int, depth int) PARTITION BY RANGE (at);
CREATE TABLE measure_25 PARTITION OF measure FOR VALUES FROM ('2025-01-01') TO ('2026-01-01');
CREATE TABLE measure_26 PARTITION OF measure FOR VALUES FROM ('2026-01-01') TO ('2027-01-01');
INSERT INTO measure SELECT date '2025-01-01' + n % 700, n % 900, n FROM generate_series(1, 60000) n;
CREATE TABLE paper (paper_id int PRIMARY KEY, code text COLLATE "a language",
    title varchar(80) COLLATE "a language",
    facts jsonb, marks int[], done boolean NOT NULL, sent_at timestamptz, opened timestamptz,
    state text NOT NULL, words text);
CREATE EXTENSION file_fdw;
CREATE SERVER files FOREIGN DATA WRAPPER file_fdw;
CREATE FOREIGN TABLE far (id int, kind int) SERVER files OPTIONS (filename '/nowhere/far.csv');
CREATE TABLE log (at timestamp NOT NULL, source int NOT NULL, depth int NOT NULL, line text);
-- With it a tree of shapes could do all that a sorted index does, and worse.
CREATE EXTENSION btree_gist;
CREATE EXTENSION hstore;
CREATE DOMAIN sign AS varchar(9) CHECK (VALUE LIKE 'S-%');
CREATE TYPE mood AS ENUM ('calm', 'rough');
CREATE TABLE guest (id int PRIMARY KEY, host inet NOT NULL, sign sign NOT NULL,
    flags bit(8) NOT NULL, mood mood NOT NULL,
    wish hstore NOT NULL, code char(8) NOT NULL, note json NOT NULL,
    first text NOT NULL, last text NOT NULL, came timestamp NOT NULL, went timestamp NOT NULL);
"""
FILLED = """
INSERT INTO paper SELECT n, 'C-' || (n * 7919 % 60000), 'Title ' || n,
    jsonb_build_object('kind', n % 900, 'place', n % 7, 'tags', jsonb_build_array('t' || n % 90)),
    ARRAY[n % 500, n % 900], n % 200 > 0,
    CASE WHEN n % 50 > 0 THEN timestamptz '2026-01-01' + n * interval '1 minute' END,
    timestamptz '2026-01-01' + n * interval '1 minute',
    CASE WHEN n % 300 = 0 THEN 'waiting' ELSE 'closed' END, md5(n::text)
FROM generate_series(1, 60000) n;
INSERT INTO log SELECT timestamp '2026-01-01' + n * interval '1 second', n % 40, n % 977,
    repeat('x', 60) FROM generate_series(1, 500000) n;
INSERT INTO guest SELECT n, ('10.' || n % 60 || '.' || n * 7 % 250 || '.' || n % 199)::inet,
    'S-' || n, (n % 256)::bit(8), (CASE WHEN n % 400 = 0 THEN 'rough' ELSE 'calm' END)::mood,
    hstore(ARRAY['room', 'key'], ARRAY['R' || n % 300, 'K' || n % 4]), 'G' || n,
    json_build_object('late', n % 700 = 0), 'F' || n % 90, 'L' || n % 700,
    timestamp '2026-01-01' + n * interval '1 minute',
    timestamp '2026-01-01' + n * interval '1 minute' + n * 7919 % 60000 * interval '1 second'
FROM generate_series(1, 60000) n;
CREATE MATERIALIZED VIEW busy AS SELECT depth, at::date AS day, count(*) AS lines, sum(source) AS s
    FROM log GROUP BY 1, 2;
CREATE TABLE secret (id int PRIMARY KEY, kind int);
INSERT INTO secret SELECT n, n % 500 FROM generate_series(1, 30000) n;
DROP ROLE IF EXISTS visitor;
CREATE ROLE visitor LOGIN;
GRANT SELECT ON paper TO visitor;
ANALYZE;
"""


@contextmanager
def odd_database(server: Server) -> Iterator[str]:
    """The URL of the database, which is dropped at the end."""
    server.do(f"DROP DATABASE IF EXISTS {DATABASE}")
    server.do(f"CREATE DATABASE {DATABASE}")
    url = server.url.replace("/skerry", f"/{DATABASE}")
    with psycopg.connect(url, autocommit=True) as connection:
        collation = connection.execute(
            "SELECT collname FROM pg_collation WHERE collname IN ('unicode', 'und-x-icu')"
            " ORDER BY collname DESC LIMIT 1"
        ).fetchone()
        # The wheel knows no language's order; the versions of the system do.
        name = collation[0] if collation is not None and server.major < 18 else "C"
        connection.execute(SCHEMA.replace('"a language"', f'"{name}"').encode())
        connection.execute(FILLED.encode())
        if connection.execute(
            "SELECT 1 FROM pg_available_extensions WHERE name = 'pg_trgm'"
        ).fetchone():
            connection.execute("CREATE EXTENSION pg_trgm")
    try:
        yield url
    finally:
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute("DROP OWNED BY visitor")
        server.do(f"DROP DATABASE {DATABASE}")
        server.do("DROP ROLE visitor")
