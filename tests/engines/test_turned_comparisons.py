"""Turned comparisons give the same rows as the old ones, on real servers, at every boundary."""

from __future__ import annotations

from collections.abc import Iterator

import psycopg
import pytest

from humble_ledger.core.remedies.rewrites.comparisons import rewritings
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.mysql.dialect import FAMILY
from humble_ledger.engines.mysql.session import MysqlSession
from humble_ledger.engines.postgresql.dialect import POSTGRESQL
from humble_ledger.engines.postgresql.session import PostgresSession
from tests.conftest import Maria, Server, only_mariadb, only_newest

NAME = TableName("public", "watch")
# Around midnights, ends of months and of years, a leap day, and clocks put forward and back.
BUILT = """
CREATE TYPE mood AS ENUM ('calm', 'rough', 'foul');
CREATE TABLE watch (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, at timestamptz,
    here timestamp, day date, n int, big bigint NOT NULL, amount numeric(10, 3), name text,
    note varchar(20), code char(6) GENERATED ALWAYS AS (name) STORED,
    tags text[] GENERATED ALWAYS AS (CASE WHEN n > 9 THEN NULL WHEN n > 5 THEN '{}'
        ELSE ARRAY[name, note::text] END) STORED,
    mood mood GENERATED ALWAYS AS (CASE n % 3 WHEN 0 THEN 'calm'::mood WHEN 1 THEN 'rough' END)
        STORED,
    kinds varchar(9)[] GENERATED ALWAYS AS (ARRAY[note::varchar(9), left(name, 3)]) STORED,
    nums int[] GENERATED ALWAYS AS (ARRAY[n, NULL, n / 2]) STORED);
INSERT INTO watch (at, here, day, n, big, amount, name, note)
SELECT t, t AT TIME ZONE 'UTC', (t AT TIME ZONE 'UTC')::date, s.n, s.n * 3, s.n / 4.0,
    left('abcdef', 1 + abs(s.n) % 6), CASE WHEN s.n % 3 > 0 THEN 'ab' || abs(s.n) END
FROM unnest('{2023-01-01,2023-05-07,2023-05-08,2023-05-31,2023-06-01,2023-03-26,2023-10-29,
    2023-03-12,2023-11-05,2024-02-29,2023-12-31,2024-01-01,1999-12-31}'::date[]) b(day),
    unnest('{-5 h,-4 h,-2 h,-1 h,-30 min,-1 s,0 s,1 s,30 min,1 h,2 h,3 h,12 h,23 h}'::interval[])
    WITH ORDINALITY o(off, n),
    LATERAL (SELECT b.day::timestamp AT TIME ZONE 'UTC' + o.off AS t) m,
    LATERAL (SELECT (o.n * 7 + extract(doy FROM b.day))::int % 23 - 8 AS n) s;
INSERT INTO watch (big) VALUES (0), (12);
INSERT INTO watch (at, here, day, n, big, amount, name, note)
    VALUES (now(), now(), current_date, 5, 5, 5, '', ''),
    (now() - interval '24 h', now() - interval '3 h', current_date - 1, 5, 5, 5, 'ab', 'ab');
CREATE TABLE unlike (watch_id int);
"""
TURNED = [
    "at::date = '2023-05-07'",
    "date(here) = '2023-05-07'",
    "cast(at AS date) >= '2023-05-07' AND at::date < '2023-05-31'",
    "at::date <= '2023-03-26'",
    "'2023-10-29' < at::date",
    "at::date BETWEEN '2023-05-07' AND '2023-05-08'",
    "at::date NOT BETWEEN '2023-05-07' AND '2023-05-08'",
    "at::date = current_date - 1",
    "(at AT TIME ZONE 'Europe/Berlin')::date = '2023-03-26'",
    "(at AT TIME ZONE 'America/New_York')::date > '2023-11-05'",
    "at AT TIME ZONE 'UTC' >= '2023-05-07 01:00'",
    "date_trunc('day', at) = '2023-05-07'",
    "date_trunc('day', here) > '2023-05-07'",
    "date_trunc('month', at) <= '2023-05-01'",
    "date_trunc('quarter', at AT TIME ZONE 'Europe/Berlin') = '2023-04-01'",
    "date_trunc('year', here) < '2024-01-01'",
    "date_trunc('month', at) = date_trunc('month', now())",
    "extract(year FROM at) = 2023",
    "date_part('year', here) > 2022",
    "extract(year FROM at AT TIME ZONE 'Europe/Berlin') <= 2023",
    "extract(year FROM at) BETWEEN 1999 AND 2022",
    "extract(year FROM at) = 2023 AND extract(month FROM at) = 12 AND n > 0",
    "extract(month FROM at) = 2 AND extract(day FROM at) = 29 AND extract(year FROM at) = 2024",
    "at + interval '1 hour' < '2023-05-08 00:30+00'",
    "here - interval '2 days' >= '2023-05-07'",
    "day + 30 = date '2023-06-06'",
    "day - 7 < '2023-05-01'",
    "day + interval '12 hours' > '2023-05-31 11:59'",
    "now() - at < interval '4 hours'",
    "current_date - day <= 1",
    "extract(epoch FROM at) > 1683417600",
    "n + 5 > 7",
    "7 - n >= 3",
    "n - 4 = -6",
    "3 + n < $1 + 2",
    "n * 2 > 11",
    "n * -3 <= 10",
    "n * 4 = 12",
    "big * 3 < 10",
    "amount * 4 = 7",
    "amount + 0.25 >= 1.5",
    "amount * -8 > 6",
    "left(name, 3) = 'abc'",
    "left(name, 5) = 'abc'",
    "substring(name FROM 1 FOR 2) = 'ab'",
    "substr(note, 1, 2) = 'ab'",
    "strpos(name, 'abcd') = 1",
    "name || '' = 'abc'",
    "date '2023-06-01' - day > 20",
    "20 <= cast('2023-06-01' AS date) - day",
    "timestamp '2023-06-01 12:00' - here < interval '36 hours'",
    "position('bc' in name) > 0",
    "strpos(note, '1') >= 1",
    "0 < position('b' in note)",
    "strpos(name, 'cd') <> 0",
    "code::text = 'abc'",
    "'ab' = code::varchar",
    "coalesce(n, 0) > 3",
    "coalesce(n, 0) = 0",
    "coalesce(amount, 1.0) <= 1",
    "coalesce(note, '') = ''",
    "coalesce(note, 'none') = 'ab1'",
    "coalesce(big, 7) = 12",
    "n IS NOT DISTINCT FROM 5",
    "mood::text = 'calm'",
    "'rough' = cast(mood AS varchar) OR mood::text = 'calm'",
    "'ab' = ANY (tags)",
    "'abc' = ANY (kinds) AND 'ab4' = ANY (kinds)",
    "4 = ANY (nums) OR n = 3",
]  # fmt: skip
# These are the same here, too, but need not be everywhere.
MOSTLY = {
    "to_char(at, 'YYYY-MM-DD') = '2023-05-07'": "year 1",
    "to_char(here, 'YYYYMM') >= '202305'": "year 1",
    "to_char(at, 'YYYY') < '2023'": "year 1",
    "at::text LIKE '2023-05-07%'": "year first",
    "here::text LIKE '2023-05-%'": "year first",
}
ONLY_WHEN = {
    "at AT TIME ZONE 'Europe/Berlin' >= '2023-10-29 02:30'": "clock",
    "at + interval '1 month' > '2023-05-31'": "equally long",
    "age(at) > interval '1 year'": "equally long",
    "age(date '2023-06-01', day) > interval '1 month'": "equally long",
    "date_trunc('day', at) = '2023-05-07 10:00'": "beginning of a day",
    **MOSTLY,
}
LEFT_ALONE = [
    "at = '2023-05-07'", "n = 5", "n + amount > 3", "n + 0.5 > 3", "n * 2 = 5", "n * 0 = 0",
    "amount * 3 = 1", "n / 2 = 1", "left(name, 2) = 'abc'", "left(name, 3) = 'a%c'",
    "coalesce(n, big) = 5", "coalesce(name, 'a') < 'b'", "extract(month FROM at) = 5",
    "to_char(at, 'YYYY-MM-DD') = '2023-13-07'", "to_char(at, 'DD.MM.YYYY') = '07.05.2023'",
    "at::text LIKE '2023-05-0%'", "at::text LIKE '%07%'", "name || 'x' = 'abx'",
    "at + (SELECT interval '1 hour') < now()", "n + random() > 3", "id + n > 5",
    "position('a%' in name) > 0", "position('c' in name) > 1", "position(note in name) > 0",
    "code::text = 'ab '", "code::varchar(2) = 'ab'", "name::text = note",
    "NOT ('ab' = ANY (tags))", "('ab' = ANY (tags)) IS NULL", "name = ANY (tags)",
    "2.5 = ANY (nums)", "NULL = ANY (tags)", "'4' = ANY (nums)", "'ab' <> ANY (tags)",
    "'ab' = ALL (tags)", "mood::text > 'calm'", "mood::varchar(2) = 'ca'", "mood::text = name",
    "at AT TIME ZONE name >= '2023-05-07'", "extract(year FROM day) = 99999",
]  # fmt: skip


# MariaDB's and MySQL's words for it.
FAMILY_BUILT = """
CREATE TABLE watch (id int AUTO_INCREMENT PRIMARY KEY, here datetime, at timestamp NULL, day date,
    n int, big bigint NOT NULL, amount decimal(10, 3), name text, note varchar(20));
INSERT INTO watch (here, at, day, n, big, amount, name, note)
SELECT t, t, date(t), n, n * 3, n / 4, left('abcdef', 1 + abs(n) % 6),
    CASE WHEN n % 3 > 0 THEN concat('ab', abs(n)) END
FROM (SELECT timestampadd(SECOND, o.off, d.day) AS t, (o.off DIV 7 + dayofyear(d.day)) % 23 - 8 AS n
    FROM (SELECT '2023-01-01' AS day UNION SELECT '2023-05-07' UNION SELECT '2023-05-08'
        UNION SELECT '2023-05-31' UNION SELECT '2023-06-01' UNION SELECT '2024-02-29'
        UNION SELECT '2023-12-31' UNION SELECT '2024-01-01' UNION SELECT '1999-12-31') d,
    (SELECT -3600 AS off UNION SELECT -1 UNION SELECT 0 UNION SELECT 1 UNION SELECT 1800
        UNION SELECT 43200 UNION SELECT 86399) o) made;
INSERT INTO watch (big) VALUES (0), (12);
INSERT INTO watch (here, at, day, n, big, amount, name, note)
    SELECT now() - INTERVAL k DAY, now() - INTERVAL k DAY, curdate() - INTERVAL k DAY, 5, 5, 5, '',
    '' FROM (SELECT 0 AS k UNION SELECT 1 UNION SELECT 2 UNION SELECT 5) ks
"""
FAMILY_TURNED = [
    "date(here) = '2023-05-07'",
    "cast(at AS date) >= '2023-05-07' AND date(at) < '2023-05-31'",
    "date(here) BETWEEN '2023-05-07' AND '2023-05-08'",
    "date(here) = curdate() - INTERVAL 1 DAY",
    "year(here) = 2023",
    "year(day) BETWEEN 1999 AND 2022",
    "extract(year FROM at) > 2022",
    "year(here) = 2023 AND month(here) = 12 AND n > 0",
    "month(here) = 2 AND dayofmonth(here) = 29 AND year(here) = 2024",
    "date_format(here, '%Y-%m-%d') = '2023-05-07'",
    "date_format(here, '%Y%m') >= '202305'",
    "here + INTERVAL 1 HOUR < '2023-05-08 00:30:00'",
    "date_sub(here, INTERVAL 2 DAY) >= '2023-05-07'",
    "date_add(day, INTERVAL 12 HOUR) > '2023-05-31 11:59:00'",
    "datediff(now(), here) < 2",
    "datediff(curdate(), here) >= 2",
    "datediff(curdate(), day) = 1",
    "n + 5 > 7",
    "7 - n >= 3",
    "n * 2 > 11",
    "amount * 4 = 7",
    "amount + 0.25 >= 1.5",
    "left(name, 3) = 'abc'",
    "substring(note, 1, 2) = 'ab'",
    "locate('abcd', name) = 1",
    "coalesce(n, 0) > 3",
    "ifnull(note, '') = ''",
    "coalesce(big, 7) = 12",
]


@pytest.fixture(scope="module")
def watches(scenarios) -> Iterator[tuple[Server, dict[TableName, TableFacts]]]:  # type: ignore[no-untyped-def]
    server = scenarios.server(18)
    server.do(BUILT)
    session = PostgresSession(server.url, Limits())
    yield server, dict(session.tables([NAME]))
    session.close()
    server.do("DROP TABLE watch, unlike; DROP TYPE mood")


@only_newest
@pytest.mark.parametrize("zone", ["UTC", "Europe/Berlin", "America/New_York"])
def test_the_same_rows_come(
    server: Server, watches: tuple[Server, dict[TableName, TableFacts]], zone: str
) -> None:
    _, tables = watches
    with psycopg.connect(server.url, autocommit=True, cursor_factory=psycopg.RawCursor) as asked:
        asked.execute(f"SET timezone = '{zone}'".encode())
        for condition in (*TURNED, *MOSTLY):
            old = f"SELECT id FROM watch WHERE {condition}"
            (new,) = rewritings(old, tables, POSTGRESQL)
            assert bool(new.same_when) == (condition in ONLY_WHEN), (condition, new.same_when)
            given = [3] if "$1" in condition else []
            rows = [set(asked.execute(sql.encode(), given)) for sql in (old, new.sql)]
            assert rows[0] == rows[1], (condition, new.sql)
            assert rows[0], condition
            # The column stands alone: nothing is left that hides it from an index.
            assert not new.sql.upper().startswith(old.upper())


def test_what_need_not_be_the_same_is_said(
    watches: tuple[Server, dict[TableName, TableFacts]],
) -> None:
    for condition, words in ONLY_WHEN.items():
        found = list(rewritings(f"SELECT id FROM watch WHERE {condition}", watches[1], POSTGRESQL))
        assert found, condition
        new = found[0]
        assert words in new.same_when, condition


def test_what_cannot_be_turned_is_left_alone(
    watches: tuple[Server, dict[TableName, TableFacts]],
) -> None:
    for condition in LEFT_ALONE:
        found = list(rewritings(f"SELECT id FROM watch WHERE {condition}", watches[1], POSTGRESQL))
        assert not found, (condition, found[0].sql)


@only_mariadb
def test_the_same_rows_come_from_mariadb(maria: Maria) -> None:
    for statement in FAMILY_BUILT.split(";\n"):
        maria.do(statement)
    name = TableName("", "watch")
    session = MysqlSession(maria.url, Limits(), "mariadb")
    try:
        tables = dict(session.tables([name]))
        for condition in FAMILY_TURNED:
            old = f"SELECT id FROM watch WHERE {condition}"
            found = list(rewritings(old, tables, FAMILY))
            assert found, condition
            rows = [set(maria.fetch(sql)) for sql in (old, found[0].sql)]
            assert rows[0] and rows[0] == rows[1], (condition, found[0].sql)
    finally:
        session.close()
        maria.do("DROP TABLE watch")
