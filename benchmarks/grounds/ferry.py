"""A ferry office in one file: an application over SQLite, with planted troubles.

The rules were not written on it. What an expert would accept is written down before anything is
run, as "symptom:cause" or either alone; ``wrong`` is what must not be said of a statement that is
well.
"""

from __future__ import annotations

import random
import sqlite3
from contextlib import closing
from pathlib import Path

from benchmarks.grounds.cases import Case

_SCHEMA = """
CREATE TABLE port (code TEXT PRIMARY KEY, title TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE ship (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, decks INTEGER);
CREATE TABLE sailing (
    id INTEGER PRIMARY KEY, ship_id INTEGER NOT NULL REFERENCES ship (id),
    from_port TEXT NOT NULL REFERENCES port (code), to_port TEXT NOT NULL REFERENCES port (code),
    leaves_at TEXT NOT NULL, state TEXT NOT NULL DEFAULT 'planned');
CREATE TABLE passenger (
    id INTEGER PRIMARY KEY, email TEXT COLLATE NOCASE, surname TEXT, born TEXT, points INTEGER,
    meta TEXT);
CREATE TABLE ticket (
    id INTEGER PRIMARY KEY, sailing_id INTEGER NOT NULL REFERENCES sailing (id),
    passenger_id INTEGER NOT NULL REFERENCES passenger (id), number TEXT NOT NULL,
    price REAL, class INTEGER NOT NULL, sold_at TEXT NOT NULL, cancelled INTEGER NOT NULL);
CREATE TABLE vehicle (
    id INTEGER PRIMARY KEY, ticket_id INTEGER NOT NULL REFERENCES ticket (id), plate TEXT,
    length_cm INTEGER);
CREATE TABLE payment (
    id INTEGER PRIMARY KEY, ticket_number INTEGER NOT NULL, paid_at TEXT NOT NULL, amount REAL,
    method TEXT);
CREATE TABLE complaint (
    id INTEGER PRIMARY KEY, ticket_id INTEGER, passenger_id INTEGER, written_at TEXT, words TEXT,
    answered INTEGER NOT NULL);
CREATE TABLE log_line (at TEXT, level TEXT, words TEXT, sailing_id INTEGER);
CREATE INDEX sailing_leaves ON sailing (leaves_at);
CREATE INDEX sailing_ports ON sailing (from_port, to_port, leaves_at);
CREATE INDEX passenger_email ON passenger (email);
CREATE INDEX passenger_surname ON passenger (surname);
CREATE INDEX ticket_sailing ON ticket (sailing_id);
CREATE INDEX ticket_number ON ticket (number);
CREATE INDEX ticket_class_sold ON ticket (class, sold_at);
CREATE INDEX payment_paid ON payment (paid_at);
CREATE INDEX complaint_open ON complaint (written_at) WHERE answered = 0;
CREATE INDEX log_level ON log_line (level);
CREATE INDEX log_level_at ON log_line (level, at);
CREATE VIEW open_ticket AS
    SELECT t.id, t.number, t.price, s.leaves_at, p.surname FROM ticket t
    JOIN sailing s ON s.id = t.sailing_id JOIN passenger p ON p.id = t.passenger_id
    WHERE t.cancelled = 0;
"""


def made(path: Path) -> Path:
    """The file, filled with the same rows each time (about 45 MB), and analyzed."""
    chance = random.Random(20)
    with closing(sqlite3.connect(path)) as connection:
        connection.executescript(_SCHEMA)
        fill = connection.executemany
        ports = [f"P{n:02}" for n in range(24)]
        fill("INSERT INTO port VALUES (?, ?)", [(p, f"Port of {p}") for p in ports])
        fill("INSERT INTO ship VALUES (?, ?, ?)", [(n, f"Ship {n}", n % 9) for n in range(1, 31)])

        def moment(day: int) -> str:
            return (
                f"20{20 + day // 360:02}-{day // 30 % 12 + 1:02}-{day % 28 + 1:02} {day % 24:02}:10"
            )

        fill(
            "INSERT INTO sailing VALUES (?, ?, ?, ?, ?, ?)",
            (
                (n, chance.randrange(1, 31), *chance.sample(ports, 2), moment(n // 9),
                 "left" if n < 19_500 else "planned")
                for n in range(1, 20_001)
            ),
        )  # fmt: skip
        fill(
            "INSERT INTO passenger VALUES (?, ?, ?, ?, ?, ?)",
            (
                (n, f"Guest{n}@Mail.example", f"Name{chance.randrange(8_000)}",
                 f"{1940 + n % 70}-0{n % 9 + 1}-11", chance.randrange(500),
                 f'{{"tier": {n % 40}, "pet": null}}')
                for n in range(1, 60_001)
            ),
        )  # fmt: skip
        fill(
            "INSERT INTO ticket VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            (
                (n, chance.randrange(1, 20_001), chance.randrange(1, 60_001), str(7_000_000 + n),
                 chance.randrange(900) / 10, chance.choice((1, 2, 2, 2, 3)), moment(n // 120),
                 int(chance.random() < 0.02))
                for n in range(1, 220_001)
            ),
        )  # fmt: skip
        fill(
            "INSERT INTO vehicle VALUES (?, ?, ?, ?)",
            ((n, n * 4, f"AB {n % 9999:04}", 300 + n % 300) for n in range(1, 55_001)),
        )
        fill(
            "INSERT INTO payment VALUES (?, ?, ?, ?, ?)",
            (
                (n, 7_000_000 + n, moment(n // 120), n % 900 / 10,
                 chance.choice(("card", "card", "cash", "voucher")))
                for n in range(1, 200_001)
            ),
        )  # fmt: skip
        fill(
            "INSERT INTO complaint VALUES (?, ?, ?, ?, ?, ?)",
            (
                (n, chance.randrange(1, 220_001), chance.randrange(1, 60_001), moment(n // 11),
                 f"The coffee was cold, number {n}", int(n < 19_800))
                for n in range(1, 20_001)
            ),
        )  # fmt: skip
        fill(
            "INSERT INTO log_line VALUES (?, ?, ?, ?)",
            (
                (moment(n // 70), chance.choice(("info",) * 40 + ("error",)), f"line {n}",
                 chance.randrange(1, 20_001))
                for n in range(1, 120_001)
            ),
        )  # fmt: skip
        connection.execute("ANALYZE")
        connection.commit()
    return path


FIRST = (
    Case("no index on a reference", "SELECT * FROM ticket WHERE passenger_id = 4711",
         ("selective-full-scan:no-index",)),
    Case("function on the column", "SELECT * FROM ticket WHERE substr(number, 1, 7) = '7012345'",
         ("selective-full-scan:function-on-column",)),
    Case("date() around the column", "SELECT id FROM payment WHERE date(paid_at) = '2021-03-05'",
         ("selective-full-scan:function-on-column", "full-index-scan:function-on-column",
          "full-scan-avoidable")),
    Case("arithmetic", "SELECT * FROM sailing WHERE id + 1 = 500",
         ("selective-full-scan:function-on-column",)),
    Case("lower() on a column that ignores case",
         "SELECT id FROM passenger WHERE lower(email) = 'guest77@mail.example'",
         ("selective-full-scan:function-on-column", "full-index-scan:function-on-column",)),
    Case("LIKE on a column with case", "SELECT * FROM passenger WHERE surname LIKE 'Name77%'",
         ("selective-full-scan:sort-order-mismatch",)),
    Case("pattern without a beginning", "SELECT id FROM ticket WHERE number LIKE '%12345'",
         ("selective-full-scan:leading-wildcard", "full-index-scan:leading-wildcard",)),
    Case("compared without case", "SELECT * FROM passenger WHERE surname = 'name5' COLLATE NOCASE",
         ("selective-full-scan:sort-order-mismatch",)),
    Case("OR over two columns, one without index",
         "SELECT * FROM ticket WHERE number = '7000042' OR passenger_id = 42",
         ("selective-full-scan:or-over-columns", "selective-full-scan:no-index")),
    Case("not the leading column", "SELECT id FROM sailing WHERE to_port = 'P07' AND ship_id = 3",
         ("selective-full-scan", "leading-column-missing")),
    Case("the last ones without an index in that order",
         "SELECT * FROM ticket ORDER BY price DESC LIMIT 10", ("top-n-without-index",)),
    Case("sorted although few are wanted",
         "SELECT * FROM complaint WHERE passenger_id < 50000 ORDER BY words LIMIT 5",
         ("top-n-without-index",)),
    Case("deep page", "SELECT * FROM ticket ORDER BY id LIMIT 20 OFFSET 150000", ("deep-paging",)),
    Case("an index for each run",
         "SELECT c.id FROM complaint c JOIN vehicle v ON v.ticket_id = c.ticket_id",
         ("index-built-each-run", "join-side-without-index")),
    Case("a number against a text",
         "SELECT p.amount FROM payment p JOIN ticket t ON t.number = p.ticket_number "
         "WHERE p.paid_at > '2025-01' AND t.class = 3",
         (":type-mismatch", "index-built-each-run", "join-side-without-index")),
    Case("a sub-query for each row",
         "SELECT s.name, (SELECT count(*) FROM sailing x WHERE x.ship_id = s.id) FROM ship s",
         ("subquery-per-row",)),
    Case("a forgotten join",
         "SELECT count(*) FROM ship s, sailing l, port p WHERE s.id = l.ship_id AND s.decks = 3",
         ("missing-join-condition",)),
    Case("DISTINCT hides a fan-out",
         "SELECT DISTINCT s.id, s.name FROM ship s JOIN sailing l ON l.ship_id = s.id "
         "JOIN ticket t ON t.sailing_id = l.id", ("distinct-hides-fan-out",)),
    Case("grouped after the join",
         "SELECT p.surname, sum(t.price) FROM ticket t JOIN passenger p ON p.id = t.passenger_id "
         "GROUP BY p.id", ("late-aggregation", "sort-spills", "sort-without-index")),
    Case("in a random order", "SELECT id FROM ticket ORDER BY random() LIMIT 3",
         ("random-order", "top-n-without-index")),
    Case("a JSON field", "SELECT id FROM passenger WHERE json_extract(meta, '$.tier') = 7",
         ("selective-full-scan:function-on-column",)),
    Case("all that is not cancelled, the other way round",
         "SELECT id FROM ticket WHERE cancelled <> 0",
         ("selective-full-scan:negation", "selective-full-scan:no-index")),
    Case("the partial index does not fit",
         "SELECT id FROM complaint WHERE written_at > '2024-12-20'",
         ("selective-full-scan:partial-index-misses",)),
    Case("covering would do", "SELECT sum(price) FROM ticket WHERE class = 3 AND sold_at > '2023'",
         ("missing-covering-index",)),
    Case("through a view", "SELECT * FROM open_ticket WHERE surname = 'Name12'",
         ("join-side-without-index", "index-built-each-run", "selective-full-scan",
          "full-scan-avoidable")),
    Case("an IN without an index",
         "SELECT * FROM payment WHERE ticket_number IN (7000003, 7000009)",
         ("selective-full-scan:no-index",)),
    Case("NOT IN of many",
         "SELECT id FROM passenger WHERE id NOT IN (SELECT passenger_id FROM ticket)",
         ("full-scan-avoidable", "missing-covering-index", "constant-subquery-again")),
    Case("few of each group",
         "SELECT * FROM (SELECT t.*, row_number() OVER (PARTITION BY passenger_id "
         "ORDER BY sold_at DESC) n FROM ticket t) WHERE n = 1",
         ("groups-read-whole", "sort-spills", "sort-without-index")),
    # What is well.
    Case("by key", "SELECT * FROM ticket WHERE id = 4711", (), wrong=("",)),
    Case("by an index", "SELECT * FROM ticket WHERE number = '7000042'", (), wrong=("",)),
    Case("a number given for a text", "SELECT * FROM ticket WHERE number = 7000042", (),
         wrong=("",)),
    Case("a column that ignores case",
         "SELECT id FROM passenger WHERE email = 'guest77@mail.example'", (), wrong=("",)),
    Case("LIKE on a column that ignores case",
         "SELECT id FROM passenger WHERE email LIKE 'guest777@%'", (),
         wrong=("selective-full-scan",)),
    Case("GLOB with a beginning", "SELECT id FROM ticket WHERE number GLOB '70123*'", (),
         wrong=("selective-full-scan",)),
    Case("all rows are wanted", "SELECT method, sum(amount) FROM payment GROUP BY method", (),
         wrong=("selective-full-scan", "index-built-each-run")),
    Case("most rows are wanted", "SELECT * FROM ticket WHERE cancelled = 0", (),
         wrong=("selective-full-scan", "full-scan-avoidable")),
    Case("a small table", "SELECT * FROM ship WHERE decks = 3", (), wrong=("",)),
    Case("in the order of the key", "SELECT * FROM ticket ORDER BY id DESC LIMIT 10", (),
         wrong=("top-n-without-index", "selective-full-scan")),
    Case("newest by an index", "SELECT * FROM sailing ORDER BY leaves_at DESC LIMIT 10", (),
         wrong=("top-n-without-index", "selective-full-scan")),
    Case("the partial index fits",
         "SELECT id FROM complaint WHERE answered = 0 AND written_at > '2024'", (),
         wrong=("selective-full-scan",)),
    Case("joined by keys",
         "SELECT p.surname FROM ticket t JOIN passenger p ON p.id = t.passenger_id "
         "WHERE t.sailing_id = 77", (), wrong=("join-side-without-index", "index-built-each-run")),
    Case("two indexes for an OR",
         "SELECT id FROM ticket WHERE number = '7000042' OR sailing_id = 42", (),
         wrong=("selective-full-scan",)),
    Case("exists by an index",
         "SELECT id FROM sailing s WHERE s.id < 50 AND EXISTS (SELECT 1 FROM ticket t "
         "WHERE t.sailing_id = s.id)", (), wrong=("subquery-per-row", "selective-full-scan")),
)  # fmt: skip
# Written after the first batch was mended, and counted before anything was mended for it.
SECOND = (
    Case("two conditions without an index",
         "SELECT * FROM payment WHERE method = 'voucher' AND ticket_number = 7100000",
         ("selective-full-scan:no-index",)),
    Case("a year by substr",
         "SELECT count(*) FROM complaint WHERE substr(written_at, 1, 4) = '2021'",
         ("selective-full-scan:function-on-column", "full-index-scan:function-on-column",
          "full-scan-avoidable")),
    Case("coalesce around the column",
         "SELECT at FROM log_line WHERE coalesce(sailing_id, 0) = 77",
         ("selective-full-scan:function-on-column",)),
    Case("concatenated",
         "SELECT id FROM passenger WHERE surname || '/' || born = 'Name5/1999-01-11'",
         ("selective-full-scan:condition-not-searchable", "selective-full-scan:function-on-column",
          "full-scan-avoidable")),
    Case("a plate by its end", "SELECT * FROM vehicle WHERE plate LIKE '%0042'",
         ("selective-full-scan:leading-wildcard",)),
    Case("a plate by its beginning", "SELECT * FROM vehicle WHERE plate LIKE 'AB 004%'",
         ("selective-full-scan:no-index", "selective-full-scan:sort-order-mismatch")),
    Case("newest of one passenger",
         "SELECT * FROM ticket WHERE passenger_id = 99 ORDER BY sold_at DESC LIMIT 1",
         ("selective-full-scan:no-index", "top-n-without-index")),
    Case("the longest vehicles", "SELECT * FROM vehicle ORDER BY length_cm DESC, id LIMIT 20",
         ("top-n-without-index",)),
    Case("counted for each passenger",
         "SELECT p.id, (SELECT count(*) FROM complaint c WHERE c.passenger_id = p.id) FROM "
         "passenger p WHERE p.id < 2000", ("subquery-per-row",)),
    Case("EXISTS without an index",
         "SELECT p.id FROM passenger p WHERE EXISTS (SELECT 1 FROM complaint c WHERE "
         "c.passenger_id = p.id AND c.answered = 0)",
         ("subquery-per-row", "join-side-without-index", "index-built-each-run",
          "full-scan-avoidable")),
    Case("joined by an expression",
         "SELECT count(*) FROM payment p JOIN ticket t ON t.number = '' || p.ticket_number "
         "WHERE t.sailing_id = 500",
         ("selective-full-scan", "index-built-each-run", "join-side-without-index",
          "full-scan-avoidable")),
    Case("joined without case",
         "SELECT count(*) FROM passenger a JOIN passenger b ON lower(a.surname) = lower(b.surname) "
         "WHERE a.id < 50",
         ("index-built-each-run", "join-side-without-index", "selective-full-scan",
          "full-index-scan", "full-scan-avoidable")),
    Case("a page far behind", "SELECT * FROM payment ORDER BY paid_at LIMIT 10 OFFSET 120000",
         ("deep-paging",)),
    Case("all but a few", "SELECT id FROM sailing WHERE state <> 'left'",
         ("selective-full-scan:negation", "selective-full-scan:no-index", "full-scan-avoidable")),
    Case("a NULL that is rare", "SELECT id FROM complaint WHERE ticket_id IS NULL",
         ("selective-full-scan:no-index",)),
    Case("OR within one column and another",
         "SELECT * FROM complaint WHERE passenger_id = 5 OR ticket_id = 9",
         ("selective-full-scan:or-over-columns", "selective-full-scan:no-index")),
    Case("sorted for a group",
         "SELECT passenger_id, count(*) FROM ticket GROUP BY passenger_id ORDER BY 2 DESC LIMIT 5",
         ("sort-spills", "sort-without-index", "full-scan-avoidable")),
    Case("delete by a column without index", "DELETE FROM log_line WHERE sailing_id = 77",
         ("selective-full-scan:no-index",)),
    Case("update by a function", "UPDATE ticket SET cancelled = 1 WHERE lower(number) = '7000123'",
         ("selective-full-scan:function-on-column",)),
    Case("every ship with every port",
         "SELECT s.name, p.title FROM ship s, port p, sailing l WHERE l.ship_id = s.id",
         ("missing-join-condition",)),
    # What is well.
    Case("by a unique name", "SELECT * FROM ship WHERE name = 'Ship 7'", (), wrong=("",)),
    Case("by both keys of an index",
         "SELECT * FROM sailing WHERE from_port = 'P01' AND to_port = 'P02'", (), wrong=("",)),
    Case("the sum of all", "SELECT sum(amount) FROM payment", (),
         wrong=("selective-full-scan", "full-scan-avoidable", "missing-covering-index")),
    Case("a short range of keys", "SELECT * FROM ticket WHERE id BETWEEN 500 AND 560", (),
         wrong=("",)),
    Case("the last by time", "SELECT max(paid_at) FROM payment", (),
         wrong=("selective-full-scan", "full-scan-avoidable")),
    Case("counted by an index", "SELECT count(*) FROM ticket WHERE sailing_id = 12", (),
         wrong=("",)),
    Case("a query of two small tables",
         "SELECT p.title, s.name FROM port p, ship s WHERE p.code = 'P03' AND s.decks > 6", (),
         wrong=("selective-full-scan", "index-built-each-run")),
    Case("grouped by an index", "SELECT sailing_id, count(*) FROM ticket GROUP BY sailing_id", (),
         wrong=("sort-spills", "sort-without-index")),
    Case("changed by key", "UPDATE ticket SET cancelled = 1 WHERE id = 99", (), wrong=("",)),
    Case("inserted", "INSERT INTO log_line VALUES ('2026-01-01', 'info', 'x', 1)", (), wrong=("",)),
)  # fmt: skip
CASES = (*FIRST, *SECOND)
