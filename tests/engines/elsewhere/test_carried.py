"""Plans that went through mail, chats, tickets and terminals are read as they were."""

from __future__ import annotations

import pytest

from humble_ledger.core.plans.mended_text import mended
from humble_ledger.workflow.reading.saved import saved_in
from tests.engines.elsewhere.carried import WAYS
from tests.engines.elsewhere.reading import FOLDER, NAMES

POSTGRESQL = """\
Nested Loop  (cost=0.85..1250.40 rows=118 width=24) (actual time=0.061..4.210 rows=118 loops=1)
  Buffers: shared hit=490 read=12
  ->  Index Scan using reading_sensor_taken on reading r  (cost=0.43..512.10 rows=118 width=20) \
(actual time=0.040..1.102 rows=118 loops=1)
        Index Cond: ((sensor_id = 77) AND (taken_at >= '2026-03-01 00:00:00+00'::timestamptz))
        Filter: ((quality > 3) AND (note <> 'drift'::text))
        Rows Removed by Filter: 40
  ->  Index Scan using sensor_pkey on sensor s  (cost=0.42..6.20 rows=1 width=12) \
(actual time=0.020..0.021 rows=1 loops=118)
        Index Cond: (sensor_id = r.sensor_id)
Planning Time: 0.310 ms
Execution Time: 4.402 ms
"""
MYSQL = """\
-> Nested loop inner join  (cost=61.4 rows=118) (actual time=0.0612..4.21 rows=118 loops=1)
    -> Filter: ((r.quality > 3) and (r.note <> 'drift'))  (cost=20.1 rows=118) \
(actual time=0.0401..1.1 rows=118 loops=1)
        -> Index lookup on r using reading_sensor (sensor_id=77)  (cost=20.1 rows=158) \
(actual time=0.0387..0.98 rows=158 loops=1)
    -> Single-row index lookup on s using PRIMARY (sensor_id=r.sensor_id)  (cost=0.25 rows=1) \
(actual time=0.0202..0.0208 rows=1 loops=118)
"""
SQLITE = """\
QUERY PLAN
|--SEARCH r USING INDEX reading_sensor (sensor_id=? AND taken_at>?)
`--SEARCH s USING INTEGER PRIMARY KEY (rowid=?)
"""
TEXTS = {"postgresql": POSTGRESQL, "mysql": MYSQL, "sqlite": SQLITE} | {
    name: (FOLDER / name).read_text()
    for name in NAMES
    if name.startswith(("oracle/", "cockroachdb/")) and name.endswith(".txt")
}


def told(text: str) -> object:
    saved = saved_in(text)
    assert saved is not None
    plan = saved.plans[0].plan
    return [
        (
            n.operation, n.relation, n.index, n.role, n.rows_expected, n.rows_seen, n.loops,
            n.elapsed, n.discarded, sorted(n.conditions.all()),
        )
        for n in plan.nodes()
    ]  # fmt: skip


@pytest.mark.parametrize("way", WAYS)
def test_what_happened_to_a_plan_on_its_way_is_undone(way: str) -> None:
    for name, text in TEXTS.items():
        assert told(WAYS[way](text)) == told(text), name


def test_what_is_no_plan_stays_none() -> None:
    for text in ("select 1", "select * from reading -- > quoted", "", "> hello\n> world"):
        assert saved_in(text) is None


def test_a_literal_keeps_its_typographic_signs() -> None:
    text = POSTGRESQL.replace("drift", "it’s “far” → out")
    assert "it’s “far” → out" in str(told(text))
    assert mended(SQLITE) == []
