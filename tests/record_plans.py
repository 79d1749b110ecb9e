"""Records plans from a real server: `python -m tests.record_plans 18 tests/fixtures/plans/18`.

The statements are the demo's workload, and shapes that it does not have.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

import psycopg

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.demo.scenario import build_scenario, scenario_cluster
from humble_ledger.demo.workload import load_workload
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.postgresql.launcher import find_binaries
from humble_ledger.engines.postgresql.session import PostgresSession

SHAPES = {
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
}


def main() -> None:
    """Record into the folder given."""
    binaries = find_binaries(major=int(sys.argv[1]))
    folder = Path(sys.argv[2])
    folder.mkdir(parents=True, exist_ok=True)
    with scenario_cluster(binaries) as cluster:
        url = build_scenario(cluster)
        session = PostgresSession(url, Limits())
        for each in load_workload():
            _save(session, folder, each.name, filled(url, each.sql, each.value_sets[0]))
        for name, sql in SHAPES.items():
            _save(session, folder, name, sql)
        session.close()


def filled(url: str, sql: str, values: tuple[object, ...]) -> str:
    """A statement of the workload with its values written in."""
    with psycopg.connect(url) as connection:
        cursor = psycopg.ClientCursor(connection)
        named = {f"p{n}": value for n, value in enumerate(values, start=1)}
        for n in range(len(values), 0, -1):
            sql = sql.replace(f"${n}", f"%(p{n})s")
        return cursor.mogrify(sql, named)


def _save(session: PostgresSession, folder: Path, name: str, sql: str) -> None:
    found = session.explain(Statement(sql), measure=True, allow_writes=True)
    (folder / f"{name}.json").write_text(json.dumps(found.document, indent=1) + "\n")


if __name__ == "__main__":
    main()
