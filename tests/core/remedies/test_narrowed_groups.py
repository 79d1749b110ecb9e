"""Groups that are made for each row that asks for them: which statements, and how they read."""

from __future__ import annotations

import pytest

from humble_ledger.core.dialect import STANDARD
from humble_ledger.core.remedies.rewrites.narrowed_groups import groups_asked_for

TOTALS = "(SELECT buoy_id, sum(value) AS total FROM reading GROUP BY buoy_id)"
ASKED = (
    "JOIN LATERAL (SELECT buoy_id, SUM(value) AS total FROM reading WHERE buoy_id = b.buoy_id "
    "GROUP BY buoy_id) AS t ON TRUE"
)


def rewritten(sql: str) -> list[str]:
    found = groups_asked_for(sql, {}, STANDARD)
    return [" ".join(each.sql.split()).replace("( ", "(").replace(" )", ")") for each in found]


@pytest.mark.parametrize(
    ("before", "after"),
    [
        (f"SELECT b.name, t.total FROM buoy b JOIN {TOTALS} t ON t.buoy_id = b.buoy_id",
         f"SELECT b.name, t.total FROM buoy AS b {ASKED}"),
        (f"SELECT b.name, t.total FROM buoy b LEFT JOIN {TOTALS} t ON b.buoy_id = t.buoy_id "
         "WHERE b.kind = 'reef'",
         f"SELECT b.name, t.total FROM buoy AS b LEFT {ASKED} WHERE b.kind = 'reef'"),
        # What is no key stays outside.
        (f"SELECT 1 FROM buoy b JOIN {TOTALS} t ON t.buoy_id = b.buoy_id AND t.total > b.depth",
         f"SELECT 1 FROM buoy AS b {ASKED.replace('TRUE', 't.total > b.depth')}"),
        # By another name, beside a condition, compared with an expression of an earlier table.
        ("SELECT 1 FROM buoy b JOIN visit v ON v.buoy_id = b.buoy_id JOIN (SELECT r.sensor_id AS "
         "s, max(r.at) FROM reading r WHERE r.value > 0 GROUP BY r.sensor_id) t ON t.s = "
         "v.visit_id + 1",
         "SELECT 1 FROM buoy AS b JOIN visit AS v ON v.buoy_id = b.buoy_id JOIN LATERAL (SELECT "
         "r.sensor_id AS s, MAX(r.at) FROM reading AS r WHERE r.sensor_id = v.visit_id + 1 AND "
         "r.value > 0 GROUP BY r.sensor_id) AS t ON TRUE"),
        # The first row of each group: of one group the first row.
        ("SELECT b.name, t.at FROM buoy b JOIN (SELECT DISTINCT ON (buoy_id) buoy_id, at FROM "
         "reading WHERE value > 0 ORDER BY buoy_id, at DESC) t ON t.buoy_id = b.buoy_id",
         "SELECT b.name, t.at FROM buoy AS b JOIN LATERAL (SELECT buoy_id, at FROM reading WHERE "
         "buoy_id = b.buoy_id AND value > 0 ORDER BY buoy_id, at DESC LIMIT 1) AS t ON TRUE"),
        # What is asked comes first; what * stands for stays in its order.
        (f"SELECT * FROM {TOTALS} t JOIN buoy b ON t.buoy_id = b.buoy_id WHERE b.kind = 'reef'",
         f"SELECT t.*, b.* FROM buoy AS b {ASKED} WHERE b.kind = 'reef'"),
        # Rows numbered group by group; the tie may stand in WHERE.
        ("SELECT b.name, t.at FROM buoy b, (SELECT r.*, row_number() OVER (PARTITION BY r.buoy_id "
         "ORDER BY r.at DESC) AS n FROM reading r) t WHERE t.buoy_id = b.buoy_id AND t.n = 1",
         "SELECT b.name, t.at FROM buoy AS b JOIN LATERAL (SELECT r.*, ROW_NUMBER() OVER "
         "(PARTITION BY r.buoy_id ORDER BY r.at DESC) AS n FROM reading AS r WHERE r.buoy_id = "
         "b.buoy_id) AS t ON TRUE WHERE t.n = 1"),
        ("SELECT 1 FROM buoy b LEFT JOIN (SELECT buoy_id, sum(value) OVER (PARTITION BY buoy_id) "
         "AS s, rank() OVER (PARTITION BY kind, buoy_id ORDER BY at) AS n FROM alert) t ON "
         "t.buoy_id = b.buoy_id AND t.n < 3",
         "SELECT 1 FROM buoy AS b LEFT JOIN LATERAL (SELECT buoy_id, SUM(value) OVER (PARTITION BY "
         "buoy_id) AS s, RANK() OVER (PARTITION BY kind, buoy_id ORDER BY at) AS n FROM alert "
         "WHERE buoy_id = b.buoy_id) AS t ON t.n < 3"),
    ],
)  # fmt: skip
def test_a_condition_goes_into_the_grouping(before: str, after: str) -> None:
    assert rewritten(before) == [after]


@pytest.mark.parametrize(
    "sql",
    [
        f"SELECT 1 FROM {TOTALS} t LEFT JOIN buoy b ON t.buoy_id = b.buoy_id",  # all are wanted
        f"SELECT 1 FROM {TOTALS} t JOIN buoy b USING (buoy_id)",
        f"SELECT 1 FROM {TOTALS} t JOIN (SELECT * FROM buoy) b ON t.buoy_id = b.buoy_id",
        f"SELECT 1 FROM buoy b CROSS JOIN {TOTALS} t RIGHT JOIN visit v ON v.day = t.total WHERE "
        "t.buoy_id = b.buoy_id",  # it drops visits that the join fills up
        # Numbered over all of them, or for one of two windows.
        "SELECT 1 FROM buoy b JOIN (SELECT *, row_number() OVER (ORDER BY at) AS n FROM reading) t "
        "ON t.buoy_id = b.buoy_id",
        "SELECT 1 FROM buoy b JOIN (SELECT *, row_number() OVER (PARTITION BY buoy_id ORDER BY "
        "at), rank() OVER (ORDER BY at) AS n FROM reading) t ON t.buoy_id = b.buoy_id",
        "SELECT 1 FROM buoy b JOIN (SELECT *, kind AS buoy_id, row_number() OVER (PARTITION BY "
        "buoy_id ORDER BY at) AS n FROM reading) t ON t.buoy_id = b.buoy_id",
        "SELECT 1 FROM buoy b JOIN (SELECT v.*, row_number() OVER (PARTITION BY r.buoy_id ORDER BY "
        "r.at) AS n FROM reading r JOIN visit v USING (day)) t ON t.buoy_id = b.buoy_id",
        "SELECT 1 FROM buoy b JOIN (SELECT DISTINCT kind, buoy_id, count(*) OVER (PARTITION BY "
        "buoy_id) FROM alert LIMIT 7) t ON t.buoy_id = b.buoy_id",
        f"SELECT 1 FROM buoy b JOIN {TOTALS} t ON t.total = b.buoy_id",  # no key
        f"SELECT 1 FROM buoy b RIGHT JOIN {TOTALS} t ON t.buoy_id = b.buoy_id",
        f"SELECT 1 FROM buoy b JOIN {TOTALS} t ON t.buoy_id = buoy_id",  # of whom?
        f"SELECT 1 FROM buoy b JOIN {TOTALS} t ON t.buoy_id > b.buoy_id",
        f"SELECT 1 FROM buoy b JOIN {TOTALS} t ON t.buoy_id = drawn(b.buoy_id)",
        f"SELECT 1 FROM buoy b JOIN {TOTALS} t USING (buoy_id)",
        # A name means another table inside.
        "SELECT 1 FROM buoy r JOIN (SELECT r.buoy_id, count(*) FROM reading r GROUP BY r.buoy_id) "
        "t ON t.buoy_id = r.buoy_id",
        "SELECT 1 FROM buoy b JOIN (SELECT buoy_id, kind, count(*) FROM alert GROUP BY "
        "GROUPING SETS ((buoy_id), (kind))) t ON t.buoy_id = b.buoy_id",
        "SELECT 1 FROM buoy b JOIN (SELECT buoy_id, count(*) FROM alert GROUP BY ROLLUP (buoy_id)) "
        "t ON t.buoy_id = b.buoy_id",
        "SELECT 1 FROM buoy b JOIN (SELECT buoy_id, count(*), rank() OVER (ORDER BY count(*)) FROM "
        "alert GROUP BY buoy_id) t ON t.buoy_id = b.buoy_id",
        "SELECT 1 FROM buoy b JOIN (SELECT buoy_id, count(*) FROM alert GROUP BY buoy_id LIMIT 5) "
        "t ON t.buoy_id = b.buoy_id",
        "SELECT 1 FROM buoy b JOIN (SELECT buoy_id, count(*) FROM alert GROUP BY buoy_id UNION ALL "
        "SELECT 1, 2) t ON t.buoy_id = b.buoy_id",
        "SELECT 1 FROM buoy b JOIN (SELECT DISTINCT ON (buoy_id, kind) buoy_id, kind FROM alert "
        "ORDER BY buoy_id, kind) t ON t.buoy_id = b.buoy_id",  # several rows for a buoy
        "SELECT 1 FROM buoy b JOIN (SELECT DISTINCT ON (buoy_id) buoy_id, count(*) FROM alert "
        "GROUP BY buoy_id, kind ORDER BY buoy_id) t ON t.buoy_id = b.buoy_id",
        "SELECT 1 FROM buoy b JOIN (SELECT DISTINCT buoy_id FROM alert) t ON t.buoy_id = b.buoy_id",
        "SELECT 1 FROM buoy b JOIN (SELECT DISTINCT ON (kind) buoy_id, kind FROM alert) t "
        "ON t.buoy_id = b.buoy_id",
        "SELECT 1 FROM buoy b JOIN (SELECT buoy_id + 1 AS buoy_id, count(*) FROM alert GROUP BY "
        "buoy_id + 1) t ON t.buoy_id = b.buoy_id",
    ],
)
def test_what_would_mean_something_else_is_left_alone(sql: str) -> None:
    assert rewritten(sql) == []
