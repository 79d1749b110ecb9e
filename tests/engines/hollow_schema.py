"""A schema with every kind of thing that a planner looks at, for the tests of hollows."""

from __future__ import annotations

from humble_ledger.core.plans.model import Plan

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
CREATE TABLE quay.one (id integer PRIMARY KEY, lone text UNIQUE NOT NULL,
    span int4range NOT NULL DEFAULT 'empty', spans int4multirange NOT NULL DEFAULT '{}');
INSERT INTO quay.one VALUES (1, 'alone');
CREATE TABLE quay.none (id bigint PRIMARY KEY, at date);
CREATE TABLE quay.visit (day date NOT NULL, berth integer NOT NULL, boat integer, fee numeric)
    PARTITION BY RANGE (day);
CREATE TABLE quay.visit_1 PARTITION OF quay.visit FOR VALUES FROM ('2024-01-01') TO ('2024-07-01');
CREATE TABLE quay.visit_2 PARTITION OF quay.visit FOR VALUES FROM ('2024-07-01') TO ('2025-01-01');
INSERT INTO quay.visit SELECT date '2024-01-01' + n % 366, n % 40, n % 3000, n % 77
    FROM generate_series(1, 30000) n;
CREATE TABLE quay.boat (boat integer PRIMARY KEY, name text NOT NULL,
    of integer REFERENCES quay.one, state varchar(12) NOT NULL DEFAULT 'laid up');
INSERT INTO quay.boat SELECT n, 'boat ' || n, 1, CASE WHEN n < 2700 THEN 'sails' ELSE 'sold' END
    FROM generate_series(0, 2999) n;
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


def steps(plan: Plan) -> list[tuple[str, str]]:
    """The steps of a plan, each with the table it reads."""
    return [(node.label, node.relation) for node in plan.nodes()]
