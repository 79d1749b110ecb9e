"""Statements whose plans the tests read: shapes that the demo's workload does not have.

A shape is a statement, or settings and a statement; each runs in a transaction that is rolled
back.
"""

from __future__ import annotations

# What the scenario lacks: partitions, a trigger, inheritance, other kinds of indexes.
SETUP = """
CREATE TABLE tide (at date NOT NULL, buoy_id int NOT NULL, level real) PARTITION BY RANGE (at);
CREATE TABLE tide_q1 PARTITION OF tide FOR VALUES FROM ('2026-01-01') TO ('2026-04-01');
CREATE TABLE tide_q2 PARTITION OF tide FOR VALUES FROM ('2026-04-01') TO ('2026-07-01');
CREATE TABLE tide_q3 PARTITION OF tide FOR VALUES FROM ('2026-07-01') TO ('2026-10-01');
CREATE TABLE tide_q4 PARTITION OF tide FOR VALUES FROM ('2026-10-01') TO ('2027-01-01');
CREATE TABLE tide_other PARTITION OF tide DEFAULT;
INSERT INTO tide SELECT date '2026-01-01' + n % 365, 1 + n % 400, n % 90 FROM
    generate_series(1, 40000) n;
CREATE INDEX tide_at ON tide (at);
CREATE TABLE light (light_id int PRIMARY KEY, buoy_id int REFERENCES buoy, tags text[], place point,
    note text, seen int DEFAULT 0);
INSERT INTO light SELECT n, 1 + n % 400, ARRAY['t' || n % 50, 'u' || n % 7], point(n, n % 90),
    'lamp ' || n FROM generate_series(1, 8000) n;
CREATE INDEX light_tags ON light USING gin (tags);
CREATE INDEX light_place ON light USING gist (place);
CREATE INDEX light_id_block ON light USING brin (light_id);
CREATE INDEX light_note_hash ON light USING hash (note);
CREATE INDEX light_part ON light (buoy_id) WHERE seen = 0;
CREATE FUNCTION light_seen() RETURNS trigger LANGUAGE plpgsql AS
    'BEGIN NEW.seen := OLD.seen + 1; RETURN NEW; END';
CREATE TRIGGER light_counts BEFORE UPDATE ON light FOR EACH ROW EXECUTE FUNCTION light_seen();
CREATE TABLE mark (mark_id int, label text);
CREATE TABLE mark_old (kept date) INHERITS (mark);
INSERT INTO mark SELECT n, 'm' || n FROM generate_series(1, 500) n;
INSERT INTO mark_old SELECT n, 'o' || n, '2026-01-01' FROM generate_series(1, 700) n;
CREATE VIEW open_alert AS SELECT * FROM alert WHERE status = 'open';
VACUUM ANALYZE tide, light, mark, mark_old;
"""

NO_PARALLEL = "SET LOCAL max_parallel_workers_per_gather = 0"
MANY_PARALLEL = (
    "SET LOCAL max_parallel_workers_per_gather = 4; SET LOCAL parallel_setup_cost = 0; "
    "SET LOCAL parallel_tuple_cost = 0; SET LOCAL min_parallel_table_scan_size = 0; "
    "SET LOCAL min_parallel_index_scan_size = 0"
)
JIT = "SET LOCAL jit = on; SET LOCAL jit_above_cost = 0; SET LOCAL jit_optimize_above_cost = 0"
SMALL_MEMORY = "SET LOCAL work_mem = '64kB'; " + NO_PARALLEL

SHAPES: dict[str, str | tuple[str, str]] = {
    "cte-read-twice": """WITH busy AS MATERIALIZED (
        SELECT buoy_id, count(*) AS n FROM alert GROUP BY buoy_id)
        SELECT a.buoy_id, b.n FROM busy a JOIN busy b ON a.n = b.n + 1""",
    "cte-cut-short": """WITH late AS MATERIALIZED (SELECT * FROM alert ORDER BY message)
        SELECT * FROM late LIMIT 3""",
    "init-plan": """SELECT count(*) FROM alert
        WHERE raised_at > (SELECT max(started_at) - interval '9 days' FROM visit)""",
    "init-plan-twice": """SELECT (SELECT max(minutes) FROM visit) AS m, count(*) FROM visit
        WHERE minutes > (SELECT avg(minutes) FROM visit)""",
    "sub-plan-in-output": """SELECT buoy_id, (SELECT max(v.minutes) FROM visit v
        WHERE v.buoy_id = b.buoy_id) FROM buoy b""",
    "sub-plan-hashed": """SELECT count(*) FROM alert
        WHERE buoy_id NOT IN (SELECT buoy_id FROM visit WHERE minutes > 318)""",
    "sub-plan-of-the-gathering-step": (
        MANY_PARALLEL,
        """SELECT alert_id, (SELECT max(v.minutes)
        FROM visit v WHERE v.buoy_id = a.buoy_id) FROM alert a WHERE a.code = 'E-1417'""",
    ),
    "init-plan-for-workers": (
        MANY_PARALLEL,
        """SELECT count(*) FROM alert
        WHERE buoy_id > (SELECT avg(buoy_id) FROM visit)""",
    ),
    "never-ran": """SELECT * FROM region r, LATERAL (
        SELECT count(*) FROM alert a WHERE a.buoy_id = r.region_id) x WHERE r.name = 'nowhere'""",
    "limit-stops-early": "SELECT * FROM alert JOIN buoy USING (buoy_id) LIMIT 5",
    "merge-join": """SELECT count(*) FROM (SELECT * FROM visit ORDER BY buoy_id) v
        FULL JOIN (SELECT * FROM alert ORDER BY buoy_id) a ON a.buoy_id = v.buoy_id
        WHERE v.minutes < 30""",
    "append": """SELECT buoy_id FROM alert WHERE status = 'open' UNION ALL
        SELECT buoy_id FROM visit WHERE minutes < 25""",
    "set-operation": """SELECT buoy_id FROM alert
        EXCEPT SELECT buoy_id FROM visit WHERE minutes < 90""",
    "recursive": """WITH RECURSIVE steps(n) AS (SELECT 1 UNION ALL
        SELECT n + 1 FROM steps WHERE n < 400)
        SELECT count(*) FROM steps JOIN buoy ON n = buoy_id""",
    "window": """SELECT buoy_id, row_number() OVER (PARTITION BY kind ORDER BY raised_at)
        FROM alert WHERE buoy_id < 20""",
    "function-scan": "SELECT * FROM generate_series(1, 500) g WHERE g % 7 = 0",
    "values": "SELECT * FROM (VALUES (1, 'a'), (2, 'b')) v(n, t) JOIN region ON region_id = n",
    "bitmap-or": "SELECT * FROM visit WHERE buoy_id = 5 OR buoy_id = 77",
    "semi-join": "SELECT count(*) FROM buoy b WHERE EXISTS (SELECT 1 FROM alert a "
    "WHERE a.buoy_id = b.buoy_id AND a.kind = 'ice')",
    "parallel-hash": "SELECT count(*) FROM reading r JOIN sensor s USING (sensor_id) "
    "WHERE s.kind = 'wave'",
    "nothing": "SELECT * FROM buoy WHERE false",
    "data-change": "UPDATE buoy SET depth_m = depth_m + 1 WHERE buoy_id < 5",
    "insert-with-foreign-key": """INSERT INTO visit SELECT 900000 + n, 1 + n % 400, 1 + n % 900,
        now(), 5, NULL FROM generate_series(1, 50) n""",
    "lock-rows": "SELECT * FROM buoy WHERE buoy_id = 3 FOR UPDATE",
    "partitions-pruned-when-planned": "SELECT count(*) FROM tide WHERE at >= '2026-07-15'",
    "partitions-pruned-at-start": (
        "SET LOCAL plan_cache_mode = force_generic_plan",
        "SELECT count(*) FROM tide WHERE at = (SELECT max(raised_at)::date FROM alert)",
    ),
    "partitions-pruned-in-a-loop": (
        "SET LOCAL enable_hashjoin = off; SET LOCAL enable_mergejoin = off",
        "SELECT count(*) FROM (VALUES ('2026-02-01'::date), ('2026-02-09')) d(at) JOIN tide t "
        "ON t.at = d.at",
    ),
    "partitions-in-order": "SELECT * FROM tide ORDER BY at LIMIT 20",
    "partitions-merged": (
        "SET LOCAL enable_sort = off; " + NO_PARALLEL,
        "SELECT at, level FROM tide WHERE at < '2026-12-01' ORDER BY at LIMIT 3000",
    ),
    "partitions-in-parallel": (MANY_PARALLEL, "SELECT buoy_id, avg(level) FROM tide GROUP BY 1"),
    "partitions-one-by-one": (
        "SET LOCAL enable_partitionwise_aggregate = on",
        "SELECT at, count(*) FROM tide GROUP BY at",
    ),
    "update-of-partitions": "UPDATE tide SET level = 0 "
    "WHERE at BETWEEN '2026-03-30' AND '2026-04-02'",
    "inherited": "SELECT count(*) FROM mark WHERE mark_id < 20",
    "delete-inherited": "DELETE FROM mark WHERE mark_id < 5",
    "trigger": "UPDATE light SET note = 'dim' WHERE light_id < 200",
    "returning": "DELETE FROM light WHERE light_id > 7990 RETURNING light_id",
    "upsert": "INSERT INTO light (light_id, buoy_id) SELECT n, 1 "
    "FROM generate_series(7990, 8020) n ON CONFLICT (light_id) DO UPDATE SET buoy_id = 2",
    "merge": "MERGE INTO light l USING (SELECT generate_series(7995, 8010) AS n) s ON l.light_id = "
    "s.n WHEN MATCHED THEN UPDATE SET seen = 9 WHEN NOT MATCHED THEN INSERT (light_id) VALUES (n)",
    "writing-cte": "WITH gone AS (DELETE FROM light WHERE light_id < 9 RETURNING *) "
    "SELECT count(*) FROM gone",
    "cascade-check": "DELETE FROM buoy WHERE buoy_id = 4000",
    "gin": "SELECT count(*) FROM light WHERE tags @> ARRAY['t3']",
    "gist-nearest": "SELECT light_id FROM light ORDER BY place <-> point(40, 40) LIMIT 5",
    "brin": (
        "SET LOCAL enable_seqscan = off; SET LOCAL enable_indexscan = off",
        "SELECT count(note) FROM light WHERE light_id BETWEEN 1000 AND 1400",
    ),
    "hash-index": "SELECT * FROM light WHERE note = 'lamp 77'",
    "partial-index": "SELECT light_id FROM light WHERE buoy_id = 7 AND seen = 0",
    "bitmap-and": (
        "SET LOCAL enable_indexscan = off",
        "SELECT count(*) FROM light WHERE tags @> ARRAY['u3'] AND tags @> ARRAY['t5'] "
        "AND buoy_id = 6 AND seen = 0",
    ),
    "bitmap-lossy": (
        SMALL_MEMORY + "; SET LOCAL enable_seqscan = off; SET LOCAL enable_indexscan = off",
        "SELECT count(value) FROM reading WHERE buoy_id BETWEEN 1 AND 60",
    ),
    "index-only": "SELECT count(*) FROM sensor WHERE sensor_id < 700",
    "index-backwards": "SELECT * FROM alert ORDER BY alert_id DESC LIMIT 4",
    "array-of-keys": "SELECT * FROM visit WHERE visit_id = ANY ('{5, 900, 17000}')",
    "row-by-place": "SELECT * FROM buoy WHERE ctid = '(0,3)'",
    "rows-by-range-of-places": "SELECT count(*) FROM visit WHERE ctid < '(20,0)'",
    "sample": "SELECT count(*) FROM visit TABLESAMPLE SYSTEM (10)",
    "sort-on-disk": (SMALL_MEMORY, "SELECT * FROM visit ORDER BY minutes, started_at"),
    "sort-few": (NO_PARALLEL, "SELECT * FROM alert ORDER BY message LIMIT 9"),
    "sort-in-workers": (MANY_PARALLEL, "SELECT * FROM alert ORDER BY message"),
    "incremental-sort": (
        "SET LOCAL enable_seqscan = off; " + NO_PARALLEL,
        "SELECT buoy_id, taken_at, value FROM reading WHERE buoy_id < 3 ORDER BY buoy_id, value",
    ),
    "hash-on-disk": (
        SMALL_MEMORY + "; SET LOCAL enable_mergejoin = off; SET LOCAL enable_nestloop = off",
        "SELECT count(*) FROM visit v JOIN alert a ON a.alert_id = v.visit_id",
    ),
    "groups-on-disk": (
        SMALL_MEMORY + "; SET LOCAL enable_sort = off",
        "SELECT alert_id, raised_at, count(*) FROM alert GROUP BY 1, 2",
    ),
    "groups-in-order": (
        "SET LOCAL enable_hashagg = off; " + NO_PARALLEL,
        "SELECT kind, count(*) FROM alert GROUP BY kind",
    ),
    "groups-of-sets": "SELECT kind, status, count(*) FROM alert GROUP BY CUBE (kind, status)",
    "groups-in-two-steps": (MANY_PARALLEL, "SELECT kind, avg(buoy_id) FROM alert GROUP BY kind"),
    "distinct-by-sort": (
        "SET LOCAL enable_hashagg = off; " + NO_PARALLEL,
        "SELECT DISTINCT buoy_id, kind FROM alert",
    ),
    "first-of-each": "SELECT DISTINCT ON (buoy_id) * FROM alert ORDER BY buoy_id, raised_at DESC",
    "nested-loop-remembering": (
        "SET LOCAL enable_hashjoin = off; SET LOCAL enable_mergejoin = off; " + NO_PARALLEL,
        "SELECT count(b.name) FROM alert a JOIN buoy b ON b.buoy_id = a.buoy_id",
    ),
    "nested-loop-over-kept-rows": (
        "SET LOCAL enable_hashjoin = off; " + NO_PARALLEL,
        "SELECT count(*) FROM buoy b JOIN keeper k ON k.keeper_id > b.buoy_id * 2",
    ),
    "outer-joins": "SELECT count(*) FROM buoy b LEFT JOIN visit v ON v.buoy_id = b.buoy_id AND "
    "v.minutes > 300 RIGHT JOIN region r ON r.region_id = b.region_id",
    "full-join-by-hash": "SELECT count(*) FROM buoy b FULL JOIN keeper k "
    "ON k.keeper_id = b.buoy_id",
    "anti-join": "SELECT count(*) FROM buoy b WHERE NOT EXISTS (SELECT 1 FROM visit v "
    "WHERE v.buoy_id = b.buoy_id AND v.minutes > 290)",
    "lateral": "SELECT b.name, x.* FROM buoy b, LATERAL (SELECT raised_at FROM alert a "
    "WHERE a.buoy_id = b.buoy_id ORDER BY raised_at DESC LIMIT 1) x WHERE b.buoy_id < 9",
    "five-tables": """SELECT r.name, k.name, max(a.raised_at) FROM region r JOIN buoy b USING
        (region_id) JOIN alert a USING (buoy_id) JOIN visit v USING (buoy_id) JOIN keeper k USING
        (keeper_id) WHERE v.minutes > 310 GROUP BY 1, 2""",
    "compiled": (JIT, "SELECT sum(value * 2 + 1) FROM reading WHERE quality > 1"),
    "window-of-many": "SELECT alert_id, lag(raised_at) OVER w, count(*) OVER w FROM alert WINDOW w "
    "AS (PARTITION BY buoy_id ORDER BY raised_at) LIMIT 400",
    "first-rows-of-windows": "SELECT * FROM (SELECT alert_id, row_number() OVER (PARTITION BY "
    "buoy_id ORDER BY raised_at) AS n FROM alert) x WHERE n <= 2",
    "rows-made": "SELECT n, unnest(ARRAY[1, 2, 3]) FROM generate_series(1, 40) n",
    "functions-side-by-side": "SELECT * FROM "
    "ROWS FROM (generate_series(1, 9), generate_series(1, 5))",
    "xml-table": 'SELECT * FROM jsonb_to_recordset(\'[{"a": 1}, {"a": 2}]\') AS j(a int)',
    "recursive-graph": """WITH RECURSIVE chain AS (SELECT buoy_id, 1 AS far FROM buoy
        WHERE buoy_id = 1
        UNION SELECT b.buoy_id, far + 1 FROM chain c JOIN buoy b ON b.buoy_id = c.buoy_id + 7
        WHERE far < 30) SELECT max(far) FROM chain""",
    "intersect-all": "SELECT buoy_id FROM alert INTERSECT ALL SELECT buoy_id FROM visit",
    "union-of-three": "SELECT buoy_id FROM alert UNION SELECT buoy_id FROM visit UNION "
    "SELECT buoy_id FROM buoy",
    "view": "SELECT kind, count(*) FROM open_alert GROUP BY kind ORDER BY 2 DESC",
    "largest-by-index": "SELECT max(taken_at), min(reading_id) FROM reading",
    "skip-locked": "SELECT * FROM alert WHERE status = 'open' ORDER BY alert_id LIMIT 2 "
    "FOR UPDATE SKIP LOCKED",
    "volatile": "SELECT count(*) FROM buoy WHERE random() < 0.5",
    "case-of-sub-plans": """SELECT CASE WHEN b.buoy_id < 100 THEN (SELECT count(*) FROM visit v
        WHERE v.buoy_id = b.buoy_id) ELSE (SELECT count(*) FROM alert a WHERE a.buoy_id = b.buoy_id)
        END FROM buoy b WHERE b.buoy_id BETWEEN 95 AND 105""",
    "forbidden": ("SET LOCAL enable_seqscan = off", "SELECT count(*) FROM region"),
    "workers-without-work": (MANY_PARALLEL, "SELECT count(*) FROM region WHERE region_id > 3"),
    "append-in-workers": (
        MANY_PARALLEL,
        "SELECT count(*) FROM (SELECT buoy_id FROM alert UNION ALL SELECT buoy_id FROM visit) x",
    ),
}
