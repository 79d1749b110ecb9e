"""Statements for the rules: in which a symptom must be found, what only looks like it, cures."""

from __future__ import annotations

SMALL_MEMORY = "SET work_mem = '64kB'"
ONLY_BITMAPS = f"{SMALL_MEMORY}; SET enable_seqscan = off; SET enable_indexscan = off"
# Settings, a statement, its first symptom and the cause.
FIRES = [
    ("", "SELECT message FROM alert WHERE message LIKE '%reported ff00%'",
     "selective-full-scan", "leading-wildcard"),
    ("", "SELECT message FROM alert WHERE message ~ 'ff00ab'",
     "selective-full-scan", "leading-wildcard"),
    ("", "WITH r AS MATERIALIZED (SELECT * FROM reading) SELECT count(*) FROM r "
     "WHERE sensor_id = 7", "filter-outside-cte", "cte-materialized"),
    ("", "WITH a AS (SELECT code, crew, buoy_id FROM alert) SELECT count(*) FROM a x JOIN a y "
     "USING (buoy_id) WHERE x.code = 'E-1417' AND y.code = 'E-1418'",
     "filter-outside-cte", "cte-materialized"),
    ("", "SELECT * FROM (SELECT DISTINCT ON (raised_at) raised_at, crew, code FROM alert ORDER BY "
     "raised_at, alert_id) x WHERE crew = 'crew-7' AND code = 'E-1417'",
     "filter-outside-subquery", "all-rows-needed"),
    ("", "SELECT * FROM (SELECT alert_id, code, rank() OVER (ORDER BY raised_at) AS place FROM "
     "alert) x WHERE code = 'E-1417'", "filter-outside-subquery", "all-rows-needed"),
    ("SET enable_seqscan = off; SET enable_indexscan = off",
     "SELECT message FROM alert WHERE code = 'E-1417'", "leading-column-missing",
     "not-the-leading-column"),
    ("", "SELECT b.name, t.number FROM buoy b JOIN (SELECT sensor_id, count(*) AS number FROM "
     "reading GROUP BY sensor_id) t ON t.sensor_id = b.buoy_id WHERE b.name = 'SW-077'",
     "aggregation-before-join", "early-aggregation"),
    ("SET work_mem = '256MB'", "SELECT b.name, t.value FROM buoy b JOIN (SELECT r.*, rank() OVER "
     "(PARTITION BY sensor_id ORDER BY taken_at DESC) AS n FROM reading r) t ON t.sensor_id = "
     "b.buoy_id WHERE b.name = 'SW-077' AND t.n = 1", "window-before-join", "early-window"),
    ("", "SELECT alert_id FROM alert WHERE message LIKE ANY (ARRAY['%ff00ab%', 'x%'])",
     "selective-full-scan", "leading-wildcard"),
    ("", "SELECT a.message FROM alert a JOIN visit v ON v.visit_id = a.alert_id "
     "WHERE a.code = 'E-1417' OR v.remark = 'remark 7'",
     "late-join-filter", "or-over-joined-tables"),
    ("", "SELECT r.value FROM buoy b JOIN reading r ON r.buoy_id::text = b.buoy_id::text "
     "WHERE b.name = 'SW-077'", "join-side-without-index", "type-mismatch"),
    ("", "SELECT a.alert_id FROM buoy b JOIN alert a ON lower(a.message) = lower(b.name) "
     "WHERE b.name = 'SW-077'", "join-side-without-index", "function-on-column"),
    ("", "SELECT a.message FROM buoy b JOIN alert a ON a.code || ' ' || a.kind = b.name || ' hull' "
     "WHERE b.name = 'SW-077'", "join-side-without-index", "function-on-column"),
    ("", "SELECT count(*) FROM buoy b, region r WHERE b.kind = 'reef' AND r.coast = 'west'",
     "missing-join-condition", "join-condition-missing"),
    ("", "SELECT * FROM (SELECT r.*, row_number() OVER (PARTITION BY sensor_id ORDER BY value) "
     "AS n FROM reading r) x WHERE n = 1", "top-n-without-index", "groups-read-whole"),
    ("", "SELECT * FROM (SELECT r.*, row_number() OVER (PARTITION BY sensor_id ORDER BY "
     "value, taken_at) AS n FROM reading r) x WHERE n < 3",
     "top-n-without-index", "groups-read-whole"),
    ("", "SELECT DISTINCT ON (sensor_id) sensor_id, value, taken_at FROM reading ORDER BY "
     "sensor_id, value DESC", "top-n-without-index", "groups-read-whole"),
    ("", "SELECT message FROM alert WHERE message ILIKE 'buoy 17 reported f%'",
     "selective-full-scan", "case-insensitive-match"),
    ("", "SELECT message FROM alert WHERE message ILIKE '%Reported F17%'",
     "selective-full-scan", "leading-wildcard"),
    ("", "SELECT count(*) FROM alert WHERE code ILIKE 'e-1417'",
     "full-index-scan", "case-insensitive-match"),
    ("", "SELECT max(value) FROM reading WHERE quality NOT IN (1, 2, 3, 4) AND value > 0",
     "selective-full-scan", "negation"),
    ("", "SELECT remark FROM visit WHERE remark NOT LIKE 'remark%'",
     "selective-full-scan", "negation"),
    ("", "SELECT value FROM reading WHERE sensor_id = 7 OR value < 0.2",
     "selective-full-scan", "or-over-columns"),
    ("", "SELECT remark FROM visit WHERE keeper_id = 7 OR started_at < '2025-07-02'",
     "selective-full-scan", "or-over-columns"),
    ("", "SELECT message FROM alert WHERE now() - raised_at < interval '1 day'",
     "selective-full-scan", "clock-in-expression"),
    ("", "SELECT count(*) FROM alert WHERE age(raised_at) < interval '1 day'",
     "full-index-scan", "clock-in-expression"),
    ("", "SELECT message FROM alert WHERE raised_at > clock_timestamp() - interval '1 day'",
     "selective-full-scan", "value-not-stable"),
    ("", "SELECT remark FROM visit WHERE visit_id = (random() * 20000)::int",
     "selective-full-scan", "value-not-stable"),
    ("", "SELECT value FROM reading WHERE reading_id + 0 = 77",
     "selective-full-scan", "function-on-column"),
    ("SET random_page_cost = 8",
     "SELECT count(value) FROM reading WHERE buoy_id >= (SELECT max(buoy_id) FROM buoy)",
     "selective-full-scan", "index-not-chosen"),
    ("SET random_page_cost = 8",
     "SELECT max(value) FROM reading WHERE buoy_id <= (SELECT min(buoy_id) FROM buoy)",
     "selective-full-scan", "index-not-chosen"),
    ("", "SELECT avg(value) FROM reading WHERE buoy_id = 61",
     "missing-covering-index", "column-not-in-index"),
    ("", "SELECT max(value) FROM reading WHERE buoy_id IN (7, 118)",
     "missing-covering-index", "column-not-in-index"),
    ("", "SELECT count(*) FROM reading WHERE quality NOT IN (1, 2, 3, 4)",
     "full-index-scan", "negation"),
    (ONLY_BITMAPS, "SELECT sum(value) FROM reading WHERE buoy_id IN (7, 61, 118)",
     "lossy-bitmap", "memory-too-small"),
    (ONLY_BITMAPS, "SELECT min(sensor_id) FROM reading WHERE buoy_id < 40 AND value > 0",
     "lossy-bitmap", "memory-too-small"),
    ("", "SELECT alert_id, message FROM alert ORDER BY message LIMIT 5",
     "top-n-without-index", "no-index-in-this-order"),
    ("", "SELECT reading_id, value FROM reading ORDER BY value DESC LIMIT 3",
     "top-n-without-index", "no-index-in-this-order"),
    ("", "SELECT b.name, a.alert_id FROM buoy b JOIN alert a USING (buoy_id) "
     "WHERE b.buoy_id IN (3, 5)", "join-side-without-index", "no-index"),
    ("", "SELECT b.name, a.code FROM buoy b JOIN alert a USING (buoy_id) "
     "WHERE b.name = 'SW-017'", "join-side-without-index", "no-index"),
    (SMALL_MEMORY, "SELECT count(*) FROM buoy b WHERE b.buoy_id::bigint NOT IN "
     "(SELECT visit_id + 1000 FROM visit)",
     "constant-subquery-again", "result-looked-through-again"),
    (SMALL_MEMORY, "SELECT name FROM keeper WHERE keeper_id NOT IN (SELECT alert_id FROM alert)",
     "constant-subquery-again", "result-looked-through-again"),
    ("", "SELECT count(*) FROM alert WHERE random() < 0.001",
     "volatile-filter", "volatile-function"),
    ("", "SELECT * FROM alert ORDER BY random() LIMIT 3", "random-order", "order-by-chance"),
    ("", "SELECT r.value FROM alert a JOIN reading r ON r.reading_id::text = a.alert_id::text "
     "WHERE a.alert_id < 20", "join-side-without-index", "type-mismatch"),
    ("", "SELECT message FROM alert WHERE buoy_id IS NOT DISTINCT FROM 7",
     "selective-full-scan", "null-safe-comparison"),
    ("", "SELECT max(value) FROM reading WHERE buoy_id = 61 AND random() < 0.01",
     "volatile-filter", "volatile-function"),
    (SMALL_MEMORY, "SELECT count(*) FROM alert a JOIN visit v USING (buoy_id)",
     "hash-spills", "memory-too-small"),
    ("", "SELECT sensor_id, taken_at, count(*) FROM reading GROUP BY 1, 2",
     "hash-spills", "memory-too-small"),
    (SMALL_MEMORY, "WITH a AS MATERIALIZED (SELECT * FROM alert) SELECT count(*) FROM a "
     "WHERE message > 'C' OR crew > 'crew'", "materialize-spills", "memory-too-small"),
    (SMALL_MEMORY, "SELECT * FROM generate_series(1, 200000) AS n WHERE n < 3",
     "materialize-spills", "memory-too-small"),
    ("SET work_mem = '300MB'", "SELECT value FROM reading ORDER BY taken_at",
     "sort-without-index", "no-index-in-this-order"),
    ("SET work_mem = '64MB'", "SELECT message FROM alert ORDER BY code",
     "sort-without-index", "no-index-in-this-order"),
    ("SET max_parallel_workers = 0", "SELECT avg(value) FROM reading",
     "workers-not-launched", "no-worker-free"),
    ("SET max_parallel_workers = 0", "SELECT count(*) FROM reading WHERE value > 0.5",
     "workers-not-launched", "no-worker-free"),
    ("", "SELECT alert_id FROM alert ORDER BY length(message) DESC LIMIT 5",
     "top-n-without-index", "no-index-in-this-order"),
    ("", "SELECT reading_id FROM reading ORDER BY abs(value - 4) LIMIT 3",
     "top-n-without-index", "no-index-in-this-order"),
]  # fmt: skip
LOOK_ALIKES = [
    ("", "SELECT b.name, t.value FROM buoy b JOIN (SELECT r.*, row_number() OVER (PARTITION BY "
     "sensor_id ORDER BY taken_at DESC) AS n FROM reading r) t ON t.sensor_id = b.buoy_id "
     "WHERE t.n = 1", "window-before-join"),
    ("", "SELECT b.name, t.value FROM buoy b JOIN (SELECT r.*, row_number() OVER (ORDER BY value) "
     "AS n FROM reading r) t ON t.sensor_id = b.buoy_id WHERE b.name = 'SW-077' AND t.n = 1",
     "window-before-join"),
    ("", "SELECT b.name, t.number FROM buoy b JOIN (SELECT buoy_id, count(*) AS number FROM alert "
     "GROUP BY buoy_id) t USING (buoy_id)", "aggregation-before-join"),
    ("", "SELECT t.sensor_id, b.name FROM (SELECT sensor_id, count(*) FROM reading GROUP BY 1) t "
     "LEFT JOIN buoy b ON b.buoy_id = t.sensor_id AND b.name = 'SW-077'",
     "aggregation-before-join"),
    ("", "SELECT b.name FROM buoy b JOIN (SELECT sensor_id, count(*) AS number FROM reading "
     "GROUP BY sensor_id) t ON t.number = b.buoy_id WHERE b.name = 'SW-077'",
     "aggregation-before-join"),
    ("", "SELECT alert_id FROM alert ORDER BY age(raised_at) LIMIT 5", "top-n-without-index"),
    ("", "SELECT alert_id FROM alert ORDER BY length(message) DESC", "top-n-without-index"),
    ("", "SELECT message FROM alert WHERE code LIKE 'E-14%' AND sensor_id = 4",
     "selective-full-scan"),
    ("", "SELECT remark FROM visit WHERE remark IS NOT NULL", "selective-full-scan"),
    ("", "SELECT message FROM alert WHERE status <> 'open'", "selective-full-scan"),
    ("", "SELECT name FROM region WHERE coast = 'north' OR name = 'Dunvary'",
     "selective-full-scan"),
    ("", "SELECT message FROM alert WHERE raised_at > now() - interval '1 day'",
     "selective-full-scan"),
    ("", "SELECT message FROM alert WHERE alert_id = (SELECT 17)", "selective-full-scan"),
    ("SET random_page_cost = 8", "SELECT sum(value) FROM reading WHERE buoy_id > 100",
     "selective-full-scan"),
    ("", "SELECT avg(value) FROM reading WHERE buoy_id = 60 AND taken_at < '2026-01-03'",
     "missing-covering-index"),
    ("", "SELECT * FROM reading WHERE buoy_id = 61", "missing-covering-index"),
    ("", "SELECT count(*) FROM reading WHERE buoy_id = 61", "missing-covering-index"),
    ("", "SELECT count(*) FROM reading WHERE quality = 5", "full-index-scan"),
    ("", "SELECT count(*) FROM alert WHERE raised_at < '2026-01-01'", "index-only-heap-fetches"),
    ("", "SELECT count(*) FROM sensor WHERE buoy_id < 100", "index-only-heap-fetches"),
    ("", "SELECT sum(value) FROM reading WHERE quality = 2", "lossy-bitmap"),
    ("", "SELECT max(remark) FROM visit WHERE buoy_id = 3", "lossy-bitmap"),
    ("", "SELECT raised_at FROM alert ORDER BY raised_at DESC LIMIT 10",
     "top-n-without-index"),
    ("", "SELECT kind, count(*) FROM alert GROUP BY kind ORDER BY 2 DESC LIMIT 1",
     "top-n-without-index"),
    ("", "SELECT alert_id, message FROM alert ORDER BY message LIMIT 59000",
     "top-n-without-index"),
    ("", "SELECT * FROM (SELECT a.*, row_number() OVER (PARTITION BY code ORDER BY raised_at) AS n "
     "FROM alert a) x WHERE n <= 20", "top-n-without-index"),
    ("", "SELECT * FROM (SELECT r.*, row_number() OVER (ORDER BY sensor_id, value) AS n "
     "FROM reading r) x WHERE n <= 3", "top-n-without-index"),
    ("", "SELECT * FROM (SELECT r.*, row_number() OVER (PARTITION BY sensor_id ORDER BY value) "
     "AS n FROM reading r) x WHERE quality = 1", "top-n-without-index"),
    ("", "SELECT DISTINCT ON (code) code, message FROM alert WHERE buoy_id < 300 ORDER BY code, "
     "raised_at", "top-n-without-index"),
    ("", "SELECT reading_id FROM reading ORDER BY value / 7, reading_id LIMIT 5", "sort-spills"),
    ("", "SELECT name FROM buoy ORDER BY name", "sort-without-index"),
    ("", "SELECT value, taken_at FROM reading WHERE buoy_id = 9 AND taken_at < '2026-02-01' "
     "ORDER BY value", "sort-without-index"),
    ("", "SELECT count(*) FROM buoy b JOIN sensor s USING (buoy_id)", "join-side-without-index"),
    ("", "SELECT count(*) FROM alert a JOIN visit v ON lower(a.message) = lower(v.remark)",
     "join-side-without-index"),
    ("", "SELECT count(*) FROM keeper k JOIN visit v USING (keeper_id)", "join-side-without-index"),
    ("", "SELECT b.name, count(*) FROM alert a LEFT JOIN buoy b USING (buoy_id) GROUP BY 1",
     "join-side-without-index"),
    ("", "SELECT count(*) FROM buoy WHERE buoy_id NOT IN (SELECT buoy_id FROM visit)",
     "constant-subquery-again"),
    ("", "SELECT count(*) FROM buoy WHERE buoy_id > (SELECT avg(buoy_id) FROM visit)",
     "constant-subquery-again"),
    ("", "SELECT count(*) FROM visit WHERE random() < 0.5", "volatile-filter"),
    ("", "SELECT * FROM alert ORDER BY alert_id + random() DESC", "random-order"),
    ("", "SELECT name, (SELECT name FROM region WHERE region_id = b.region_id) FROM buoy b",
     "subquery-per-row"),
    ("", "SELECT random() FROM visit WHERE minutes > 300", "volatile-filter"),
    ("", "SELECT count(*) FROM alert a JOIN visit v USING (buoy_id)", "hash-spills"),
    ("", "SELECT kind, count(*) FROM alert GROUP BY 1", "hash-spills"),
    ("", "WITH a AS MATERIALIZED (SELECT * FROM buoy) SELECT count(*) FROM a",
        "materialize-spills"),
    ("", "SELECT * FROM generate_series(1, 900) AS n", "materialize-spills"),
    ("", "SELECT avg(value) FROM reading", "workers-not-launched"),
    ("SET max_parallel_workers = 0", "SELECT count(*) FROM visit", "workers-not-launched"),
    ("", "SELECT avg(value) FROM reading WHERE quality < 9", "parallel-overhead"),
    ("", "SELECT count(*) FROM alert", "parallel-overhead"),
    ("", "SELECT count(*) FROM alert", "table-bloat"),
    ("", "SELECT count(remark) FROM visit", "table-bloat"),
]  # fmt: skip


# The faulty statement, its first symptom, and the statement as its cause suggests it.
SHOWN_BY_ESTIMATES = ("subquery-per-row", "deep-paging", "distinct-hides-fan-out")
CURED_BY_REWRITE = [
    (
        "SELECT count(*) FROM alert a, visit v WHERE a.kind = 'ice' AND a.status = 'open' "
        "AND v.minutes > 250",
        "missing-join-condition",
        "SELECT count(*) FROM alert a, visit v WHERE a.kind = 'ice' AND a.status = 'open' "
        "AND v.minutes > 250 AND v.buoy_id = a.buoy_id",
    ),
    (
        "SELECT b.name, (SELECT max(a.raised_at) FROM alert a WHERE a.buoy_id = b.buoy_id) "
        "FROM buoy b WHERE b.region_id < 4",
        "subquery-per-row",
        "SELECT b.name, l.last FROM buoy b LEFT JOIN (SELECT buoy_id, max(raised_at) AS last "
        "FROM alert GROUP BY buoy_id) l USING (buoy_id) WHERE b.region_id < 4",
    ),
    (
        "SELECT alert_id, message FROM alert ORDER BY alert_id LIMIT 20 OFFSET 50000",
        "deep-paging",
        "SELECT alert_id, message FROM alert WHERE alert_id > 50000 ORDER BY alert_id LIMIT 20",
    ),
    (
        "SELECT DISTINCT b.name FROM buoy b JOIN alert a USING (buoy_id) JOIN visit v USING "
        "(buoy_id) WHERE a.status = 'open'",
        "distinct-hides-fan-out",
        "SELECT b.name FROM buoy b WHERE EXISTS (SELECT 1 FROM alert a WHERE a.buoy_id = "
        "b.buoy_id AND a.status = 'open') AND EXISTS (SELECT 1 FROM visit v WHERE v.buoy_id = "
        "b.buoy_id)",
    ),
    (
        "SELECT b.buoy_id, b.name, sum(r.value) FROM reading r JOIN buoy b ON b.buoy_id = "
        "r.buoy_id GROUP BY b.buoy_id, b.name",
        "aggregation-after-join",
        "SELECT b.buoy_id, b.name, r.total FROM (SELECT buoy_id, sum(value) AS total FROM reading "
        "GROUP BY buoy_id) r JOIN buoy b ON b.buoy_id = r.buoy_id",
    ),
    (
        "SELECT alert_id, message FROM alert WHERE date_trunc('day', raised_at) = '2026-05-02'",
        "selective-full-scan",
        "SELECT alert_id, message FROM alert WHERE raised_at >= '2026-05-02' "
        "AND raised_at < '2026-05-03'",
    ),
    (
        "SELECT sensor_id, value FROM reading WHERE reading_id = 918273.0",
        "selective-full-scan",
        "SELECT sensor_id, value FROM reading WHERE reading_id = 918273",
    ),
]  # fmt: skip
# Statements that look like one of those and are right.
REWRITE_LOOK_ALIKES = [
    (
        "missing-join-condition",
        "SELECT count(*) FROM region r, (SELECT max(minutes) AS m FROM visit) x",
    ),
    (
        "missing-join-condition",
        "SELECT r.name, b.name FROM region r, buoy b WHERE b.kind = 'harbour'",
    ),
    ("missing-join-condition", "SELECT r.name, n FROM region r CROSS JOIN generate_series(1, 3) n"),
    ("subquery-per-row", "SELECT count(*) FROM alert WHERE buoy_id IN (SELECT buoy_id FROM buoy)"),
    (
        "subquery-per-row",
        "SELECT name, (SELECT count(*) FROM keeper k WHERE k.region_id = r.region_id) "
        "FROM region r WHERE region_id < 3",
    ),
    ("deep-paging", "SELECT alert_id FROM alert ORDER BY alert_id LIMIT 20 OFFSET 40"),
    ("deep-paging", "SELECT alert_id FROM alert ORDER BY alert_id LIMIT 5000"),
    (
        "deep-paging",
        "SELECT alert_id FROM alert WHERE alert_id > (SELECT count(*) FROM reading "
        "WHERE value > 3) - 1500000 ORDER BY alert_id LIMIT 5",
    ),
    (
        "filter-outside-cte",
        "WITH a AS MATERIALIZED (SELECT buoy_id, count(*) AS n FROM alert "
        "GROUP BY 1) SELECT max(n) FROM a",
    ),
    (
        "filter-outside-subquery",
        "SELECT * FROM (SELECT alert_id, rank() OVER (PARTITION BY crew ORDER BY raised_at) AS "
        "place FROM alert) x WHERE place < 3",
    ),
    (
        "filter-outside-subquery",
        "SELECT * FROM (SELECT alert_id, code, rank() OVER (PARTITION BY code ORDER BY raised_at) "
        "AS place FROM alert) x WHERE code = 'E-1417'",
    ),
    (
        "index-scan-discards-most",
        "SELECT alert_id FROM alert WHERE raised_at > '2026-06-20' AND buoy_id NOT IN (SELECT "
        "buoy_id FROM visit WHERE minutes > 30)",
    ),
    (
        "late-join-filter",
        "SELECT count(*) FROM alert a JOIN buoy b USING (buoy_id) "
        "WHERE a.status = 'open' OR b.name < 'T'",
    ),
    (
        "missing-join-condition",
        "SELECT r.name, s.n FROM region r CROSS JOIN generate_series(1, 3) AS s(n)",
    ),
    ("distinct-hides-fan-out", "SELECT DISTINCT kind FROM alert"),
    (
        "distinct-hides-fan-out",
        "SELECT DISTINCT a.kind, b.name FROM alert a JOIN buoy b USING (buoy_id)",
    ),
    ("aggregation-after-join", "SELECT buoy_id, avg(value) FROM reading GROUP BY buoy_id"),
    (
        "aggregation-after-join",
        "SELECT b.name, a.kind, count(*) FROM alert a JOIN buoy b USING (buoy_id) GROUP BY 1, 2",
    ),
    ("leading-column-missing", "SELECT * FROM alert WHERE sensor_id = 9 AND code = 'E-1417'"),
    ("index-scan-discards-most", "SELECT count(*) FROM alert WHERE alert_id < 90 AND kind = 'ice'"),
]
LOOK_ALIKES += [("", sql, name) for name, sql in REWRITE_LOOK_ALIKES]

# Commits are not awaited here, and a vacuum marks only what is known to be committed.
VACUUMED = ("SET synchronous_commit = on; ANALYZE tried", "VACUUM tried")
# Built; the statement, what is found first and why; what cures it.
CURED = [
    ("SELECT avg(value) FROM reading WHERE buoy_id = 203", (),
     "missing-covering-index", "column-not-in-index",
     ("CREATE INDEX tried_index ON reading (buoy_id) INCLUDE (value)",)),
    ("SELECT count(*) FROM tried WHERE alert_id < 30000",
     ("CREATE TABLE tried AS SELECT alert_id, message FROM alert",
      "CREATE INDEX ON tried (alert_id)", "ANALYZE tried"),
     "index-only-heap-fetches", "pages-not-all-visible", VACUUMED),
    ("SELECT count(*) FROM tried WHERE visit_id BETWEEN 100 AND 9000",
     ("CREATE TABLE tried AS SELECT visit_id, minutes FROM visit",
      "CREATE INDEX ON tried (visit_id)", "ANALYZE tried"),
     "index-only-heap-fetches", "pages-not-all-visible", VACUUMED),
    ("SELECT count(minutes) FROM tried",
     ("CREATE TABLE tried AS SELECT * FROM visit CROSS JOIN generate_series(1, 5)",
      "DELETE FROM tried WHERE visit_id > 300", "ANALYZE tried"),
     "table-bloat", "dead-rows", ("VACUUM FULL tried", "ANALYZE tried")),
    ("SELECT sum(length(message)) FROM tried",
     ("CREATE TABLE tried AS SELECT * FROM alert", "DELETE FROM tried WHERE alert_id % 9 > 0",
      "ANALYZE tried"),
     "table-bloat", "dead-rows", ("VACUUM FULL tried", "ANALYZE tried")),
    ("SELECT message FROM tried WHERE code = 'E-1417'",
     ('CREATE TABLE tried (code text COLLATE "C", message text)',
      "INSERT INTO tried SELECT code, message FROM alert",
      'CREATE INDEX ON tried (code COLLATE "POSIX")', "ANALYZE tried"),
     "selective-full-scan", "sort-order-mismatch", ("CREATE INDEX ON tried (code)",)),
    ("SELECT message FROM tried WHERE code < 'E-1002'",
     ("CREATE TABLE tried AS SELECT code, message FROM alert",
      "CREATE INDEX ON tried (code text_pattern_ops)", "ANALYZE tried"),
     "selective-full-scan", "sort-order-mismatch", ("CREATE INDEX ON tried (code)",)),
    ("SELECT message FROM tried WHERE sensor_id = 77",
     ("CREATE TABLE tried AS SELECT * FROM alert",
      "CREATE INDEX ON tried (sensor_id) WHERE status = 'open'", "ANALYZE tried"),
     "selective-full-scan", "partial-index-misses", ("CREATE INDEX ON tried (sensor_id)",)),
    ("SELECT message FROM tried WHERE lower(code) = 'e-1417'",
     ("CREATE TABLE tried AS SELECT * FROM alert",
      "CREATE INDEX ON tried (lower(code)) WHERE status = 'open'", "ANALYZE tried"),
     "selective-full-scan", "partial-index-misses", ("CREATE INDEX ON tried (lower(code))",)),
    ("SELECT remark FROM visit WHERE is_late(minutes)",
     ("CREATE FUNCTION is_late(m integer) RETURNS boolean LANGUAGE plpgsql AS "
      "'BEGIN RETURN m > 318; END'",),
     "selective-full-scan", "function-not-immutable",
     ("ALTER FUNCTION is_late(integer) IMMUTABLE",
      "CREATE INDEX tried_index ON visit (is_late(minutes))", "ANALYZE visit")),
    ("SELECT alert_id, message FROM alert ORDER BY message LIMIT 5", (),
     "top-n-without-index", "no-index-in-this-order",
     ("CREATE INDEX tried_index ON alert (message)",)),
    ("SELECT b.name, a.alert_id FROM buoy b JOIN alert a USING (buoy_id) WHERE b.buoy_id IN (3, 5)",
     (), "join-side-without-index", "no-index", ("CREATE INDEX tried_index ON alert (buoy_id)",)),
    ("SELECT taken_at, value FROM reading WHERE sensor_id = 1187 AND taken_at >= '2026-02-01' "
     "ORDER BY taken_at", (), "selective-full-scan", "no-index",
     ("CREATE INDEX tried_index ON reading (sensor_id, taken_at)",)),
    ("SELECT v.visit_id, b.name FROM visit v JOIN buoy b USING (buoy_id) WHERE v.keeper_id = 5",
     (), "selective-full-scan", "no-index", ("CREATE INDEX tried_index ON visit (keeper_id)",)),
    ("SELECT a.alert_id, v.visit_id FROM alert a JOIN visit v ON v.started_at > a.raised_at AND "
     "v.started_at < a.raised_at + interval '36 hours' WHERE a.kind = 'hull' AND "
     "a.cause = 'cause-27' AND a.crew = 'crew-29' AND a.status = 'open'",
     (), "row-misestimate", "correlated-columns",
     ("CREATE STATISTICS tried_statistics (dependencies, mcv) ON kind, cause, crew, status "
      "FROM alert", "ANALYZE alert")),
    ("SELECT alert_id, status, kind, message FROM alert ORDER BY status, kind, message",
     (), "sort-spills", "memory-too-small", ("ALTER DATABASE skerry SET work_mem = '16MB'",)),
]  # fmt: skip
