"""A railway on MariaDB: binary keys, prefix keys, mixed character sets, sets, shapes and documents.

Statements were written, and counted, before the rules were tried on them. Names are invented.
"""

from __future__ import annotations

from benchmarks.grounds.cases import Case

SCHEMA = """
CREATE DATABASE rail CHARACTER SET utf8mb4;
USE rail;
CREATE TABLE station (
    id INT PRIMARY KEY, code CHAR(5) NOT NULL UNIQUE, name VARCHAR(60) NOT NULL,
    region ENUM('north', 'east', 'south', 'west') NOT NULL, platforms TINYINT NOT NULL);
CREATE TABLE line (id SMALLINT PRIMARY KEY, code VARCHAR(8) NOT NULL UNIQUE,
    operator VARCHAR(30) NOT NULL);
CREATE TABLE trip (
    id INT AUTO_INCREMENT PRIMARY KEY, line_id SMALLINT NOT NULL, day DATE NOT NULL,
    number INT NOT NULL, departs DATETIME NOT NULL, state TINYINT NOT NULL, train_id INT,
    KEY trip_line (line_id), KEY trip_day (day, number));
CREATE TABLE stop (
    trip_id INT NOT NULL, seq TINYINT NOT NULL, station_id INT NOT NULL, arrives DATETIME NOT NULL,
    leaves DATETIME NOT NULL, platform VARCHAR(4) NOT NULL, late_s SMALLINT NOT NULL,
    PRIMARY KEY (trip_id, seq), KEY stop_station (station_id, arrives));
CREATE TABLE passenger (
    id BINARY(16) PRIMARY KEY, mail VARCHAR(80) COLLATE utf8mb4_bin NOT NULL UNIQUE,
    last VARCHAR(40) NOT NULL, first VARCHAR(40) NOT NULL, phone VARCHAR(20), born DATE,
    perks SET('wifi', 'lounge', 'bicycle', 'quiet') NOT NULL, flags INT NOT NULL, prefs JSON,
    KEY passenger_name (last, first));
CREATE TABLE agent (code VARCHAR(20) PRIMARY KEY, town VARCHAR(30) NOT NULL);
CREATE TABLE ticket (
    id BIGINT AUTO_INCREMENT PRIMARY KEY, passenger BINARY(16) NOT NULL, trip_id INT NOT NULL,
    class CHAR(1) NOT NULL, price DECIMAL(7, 2) NOT NULL, bought DATETIME NOT NULL,
    ref VARCHAR(12) NOT NULL, refunded DATETIME, agent VARCHAR(20) CHARACTER SET latin1 NOT NULL,
    KEY ticket_trip (trip_id), KEY ticket_ref (ref(4)), KEY ticket_agent (agent));
CREATE TABLE wagon (id INT PRIMARY KEY, plate CHAR(12) NOT NULL UNIQUE, kind VARCHAR(12) NOT NULL,
    built YEAR NOT NULL, seats SMALLINT NOT NULL);
CREATE TABLE formation (trip_id INT NOT NULL, pos TINYINT NOT NULL, wagon_id INT NOT NULL,
    PRIMARY KEY (trip_id, pos));
CREATE TABLE fault (
    id INT AUTO_INCREMENT PRIMARY KEY, wagon_id INT NOT NULL, at DATETIME NOT NULL,
    code VARCHAR(8) NOT NULL, words TEXT NOT NULL, closed DATETIME, severity TINYINT NOT NULL,
    KEY fault_closed (closed));
CREATE TABLE crew (id INT PRIMARY KEY, badge VARCHAR(10) NOT NULL UNIQUE,
    depot VARCHAR(20) NOT NULL, boss INT);
CREATE TABLE duty (crew_id INT NOT NULL, starts DATETIME NOT NULL, ends DATETIME NOT NULL,
    trip_id INT NOT NULL, PRIMARY KEY (crew_id, starts));
CREATE TABLE movement (
    id BIGINT AUTO_INCREMENT PRIMARY KEY, at DATETIME(3) NOT NULL, block VARCHAR(10) NOT NULL,
    train VARCHAR(10) NOT NULL, kind ENUM('enter', 'leave', 'test') NOT NULL, speed FLOAT NOT NULL,
    KEY movement_at (at));
CREATE TABLE fare (
    from_id INT NOT NULL, to_id INT NOT NULL, class CHAR(1) NOT NULL, valid_from DATE NOT NULL,
    valid_to DATE NOT NULL, price DECIMAL(7, 2) NOT NULL,
    PRIMARY KEY (from_id, to_id, class, valid_from));
CREATE TABLE claim (id INT PRIMARY KEY, ticket_id BIGINT NOT NULL, opened DATE NOT NULL,
    state VARCHAR(10) NOT NULL, amount DECIMAL(7, 2) NOT NULL, words TEXT NOT NULL,
    FULLTEXT KEY claim_words (words));
CREATE TABLE beacon (id INT PRIMARY KEY, spot POINT NOT NULL, kind VARCHAR(10) NOT NULL,
    SPATIAL KEY beacon_spot (spot));
CREATE VIEW late_stop AS SELECT trip_id, station_id, arrives, late_s FROM stop WHERE late_s > 300;
INSERT INTO station SELECT seq, CONCAT('S', LPAD(seq, 4, '0')), CONCAT('Halt ', seq),
    1 + seq % 4, 1 + seq % 12 FROM seq_1_to_2000;
INSERT INTO line SELECT seq, CONCAT('L', seq), CONCAT('Rail ', seq % 7) FROM seq_1_to_40;
INSERT INTO trip SELECT seq, 1 + seq * 7919 % 40, '2025-01-01' + INTERVAL seq DIV 330 DAY,
    1000 + seq % 330, '2025-01-01' + INTERVAL seq * 262 SECOND,
    IF(seq % 53, 0, 1 + seq % 4), IF(seq % 9, seq * 31 % 900, NULL) FROM seq_1_to_120000;
INSERT INTO stop SELECT 1 + seq DIV 4, seq % 4, 1 + seq * 104729 % 2000,
    '2025-01-01' + INTERVAL seq * 65 SECOND,
    '2025-01-01' + INTERVAL seq * 65 + seq * 13 % 900 SECOND, CONCAT(1 + seq % 12, 'ab'),
    seq * 7919 % 1800 FROM seq_0_to_399999;
INSERT INTO passenger SELECT UNHEX(MD5(CONCAT('p', seq))), CONCAT('p', seq, '@firm', seq % 900,
    '.example'), CONCAT('Rider', seq % 30000), ELT(1 + seq % 6, 'Ada', 'Bea', 'Cid', 'Dov', 'Eva',
    'Fay'), CONCAT('06-', LPAD(seq * 7919 % 10000000, 8, '0')), IF(seq % 11, '1940-01-01' + INTERVAL
    seq * 7919 % 25000 DAY, NULL), IF(seq % 60, 1, 9), seq % 256, JSON_OBJECT('seat',
    CONCAT('row', seq % 700), 'vip', IF(seq % 300, FALSE, TRUE)) FROM seq_1_to_60000;
INSERT INTO agent SELECT CONCAT('A', seq), CONCAT('Town ', seq % 90) FROM seq_1_to_1200;
INSERT INTO ticket SELECT seq, UNHEX(MD5(CONCAT('p', 1 + seq * 7919 % 60000))),
    1 + seq * 104729 % 120000, IF(seq % 10, '2', '1'), 5 + seq * 17 % 19000 / 100,
    '2025-01-01' + INTERVAL seq * 105 SECOND, CONCAT('T', LPAD(seq * 31 % 9300000, 9, '0')),
    IF(seq % 90, NULL, '2025-01-09' + INTERVAL seq * 105 SECOND), CONCAT('A', 1 + seq * 31 % 1200)
    FROM seq_1_to_300000;
INSERT INTO wagon SELECT seq, LPAD(seq * 7919, 12, '5'), ELT(1 + seq % 10, 'sleeper', 'bar',
    'seats', 'seats', 'seats', 'seats', 'seats', 'seats', 'car', 'mail'), 1980 + seq % 44, seq % 90
    FROM seq_1_to_8000;
INSERT INTO formation SELECT 1 + seq DIV 2, seq % 2, 1 + seq * 7919 % 7990 FROM seq_0_to_239999;
INSERT INTO fault SELECT seq, 1 + seq * 31 % 8000, '2024-01-01' + INTERVAL seq * 9 MINUTE,
    CONCAT('F', seq * 7919 % 1500), CONCAT('Seen at door ', seq % 9000,
    REPEAT(', as before', seq % 4)),
    IF(seq % 10, '2024-02-01' + INTERVAL seq * 9 MINUTE, NULL), 1 + seq * seq % 97 % 5
    FROM seq_1_to_80000;
INSERT INTO crew SELECT seq, LPAD(seq * 31, 8, '0'), CONCAT('Depot ', seq % 45),
    IF(seq > 1, 1 + seq DIV 9, NULL) FROM seq_1_to_30000;
INSERT INTO duty SELECT 1 + seq % 30000, '2025-01-01' + INTERVAL seq * 4 MINUTE,
    '2025-01-01 08:00' + INTERVAL seq * 4 MINUTE, 1 + seq * 7919 % 120000 FROM seq_1_to_120000;
INSERT INTO movement SELECT seq, '2025-01-01' + INTERVAL seq * 100 SECOND, CONCAT('B',
    seq * 31 % 4000), CONCAT('IC ', seq * 7919 % 5000), IF(seq % 400, 1 + seq % 2, 3),
    seq * 13 % 1600 / 10
    FROM seq_1_to_250000;
INSERT INTO fare SELECT 1 + seq DIV 200, 1 + seq % 200 * 10, IF(seq % 3, '2', '1'), '2025-01-01',
    '2026-01-01', seq % 9000 / 100 FROM seq_0_to_199999;
INSERT INTO claim SELECT seq, seq * 7, '2025-01-01' + INTERVAL seq % 360 DAY,
    ELT(1 + seq % 20 DIV 19, 'closed', 'open'), seq % 90, CONCAT('late by the storm number',
    seq % 800)
    FROM seq_1_to_40000;
INSERT INTO beacon SELECT seq, POINT(seq % 400 / 10, seq DIV 400 / 10), IF(seq % 30, 'balise',
    'radio') FROM seq_1_to_120000;
ANALYZE TABLE station, line, trip, stop, passenger, agent, ticket, wagon, formation, fault, crew,
    duty, movement, fare, claim, beacon;
"""
WELL = ("selective-full-scan", "index-scan-discards-most", ":no-index", "sort-without-index",
        "top-n-without-index", "join-side-without-index")  # fmt: skip
COMPUTED = (":function-on-column", ":expression-on-column", ":cast-on-column")
CASES = [
    Case(
        "a line's cancelled trips",
        "SELECT * FROM trip WHERE line_id = 7 AND state = 3",
        (":condition-not-in-index", ":no-index", "index-scan-discards-most"),
    ),
    Case(
        "departures of a day",
        "SELECT count(*) FROM trip WHERE DATE(departs) = '2025-05-05'",
        (":function-on-column", ":no-index"),
    ),
    Case(
        "trips of a month, as text",
        "SELECT id FROM trip WHERE DATE_FORMAT(day, '%Y-%m') = '2025-05'",
        (":function-on-column",),
    ),
    Case(
        "trips of a month, by its parts",
        "SELECT id FROM trip WHERE YEAR(day) = 2025 AND MONTH(day) = 5",
        (":function-on-column",),
    ),
    Case(
        "trips of the day before",
        "SELECT id FROM trip WHERE day + INTERVAL 1 DAY = '2025-05-06'",
        COMPUTED,
    ),
    Case(
        "trip numbers that begin with",
        "SELECT id FROM trip WHERE CAST(number AS CHAR) LIKE '77%'",
        (*COMPUTED, ":type-mismatch"),
    ),
    Case(
        "trips that are not as planned",
        "SELECT id, day FROM trip WHERE state <> 0",
        (":no-index", ":negation"),
    ),
    Case(
        "two states",
        "SELECT id FROM trip WHERE state = 3 UNION SELECT id FROM trip WHERE state = 4",
        (":no-index", "needless-union"),
    ),
    Case("trips for each day", "SELECT day, count(*) FROM trip GROUP BY day", (), WELL),
    Case(
        "a day's tickets",
        "SELECT t.id FROM trip r JOIN ticket t ON t.trip_id = r.id WHERE r.day = '2025-05-05'",
        (),
        WELL,
    ),
    Case(
        "a day's trips with their tickets counted",
        "SELECT r.id, (SELECT count(*) FROM ticket t WHERE t.trip_id = r.id) FROM trip r WHERE "
        "r.day = '2025-05-05'",
        (),
        (*WELL, "subquery-per-row"),
    ),
    Case(
        "a day's movements of its trains",
        "SELECT m.at, m.block FROM trip r JOIN movement m ON m.train = CONCAT('IC ', r.number) "
        "WHERE r.day = '2025-05-05' AND r.line_id = 7",
        (":no-index", "join-side-without-index"),
    ),
    Case("worst delays", "SELECT trip_id, seq FROM stop WHERE late_s > 1790", (":no-index",)),
    Case(
        "stops within minutes",
        "SELECT trip_id FROM stop WHERE arrives BETWEEN '2025-05-05 08:00' AND '2025-05-05 08:20'",
        (":no-index", ":not-the-leading-column"),
    ),
    Case(
        "stops of a station on a day",
        "SELECT trip_id, arrives FROM stop WHERE station_id = 77 AND "
        "arrives >= '2025-05-05' AND arrives < '2025-05-06'",
        (),
        WELL,
    ),
    Case(
        "long stops",
        "SELECT trip_id FROM stop WHERE TIMESTAMPDIFF(SECOND, arrives, leaves) > 895",
        (*COMPUTED, ":no-index"),
    ),
    Case(
        "late at a station", "SELECT trip_id, late_s FROM late_stop WHERE station_id = 77", (), WELL
    ),
    Case("who it is, in hex", "SELECT mail FROM passenger WHERE HEX(id) = MD5('p777')", COMPUTED),
    Case(
        "mail in small letters",
        "SELECT HEX(id) FROM passenger WHERE LOWER(mail) = 'p777@firm777.example'",
        (":function-on-column", ":case-insensitive-match"),
    ),
    Case(
        "mail by another collation",
        "SELECT HEX(id) FROM passenger WHERE mail = "
        "'P777@firm777.example' COLLATE utf8mb4_general_ci",
        (":collation-mismatch", ":sort-order-mismatch", ":type-mismatch"),
    ),
    Case(
        "mail as it is",
        "SELECT HEX(id) FROM passenger WHERE mail = 'p777@firm777.example'",
        (),
        WELL,
    ),
    Case(
        "mail's domain",
        "SELECT HEX(id) FROM passenger WHERE SUBSTRING_INDEX(mail, '@', -1) = 'firm777.example'",
        COMPUTED,
    ),
    Case(
        "by first name and phone",
        "SELECT HEX(id) FROM passenger WHERE first = 'Ada' AND phone = '06-06150063'",
        (":no-index", ":not-the-leading-column"),
    ),
    Case(
        "full name",
        "SELECT HEX(id) FROM passenger WHERE CONCAT(first, ' ', last) = 'Ada Rider774'",
        COMPUTED,
    ),
    Case(
        "last name that ends",
        "SELECT HEX(id) FROM passenger WHERE last LIKE '%er777'",
        (":leading-wildcard",),
    ),
    Case(
        "last name that begins",
        "SELECT HEX(id) FROM passenger WHERE last LIKE 'Rider777%'",
        (),
        WELL,
    ),
    Case(
        "a seat wanted",
        "SELECT HEX(id) FROM passenger WHERE JSON_VALUE(prefs, '$.seat') = 'row77'",
        (*COMPUTED, ":no-index"),
    ),
    Case(
        "important ones",
        "SELECT HEX(id) FROM passenger WHERE JSON_EXTRACT(prefs, '$.vip') = true",
        (*COMPUTED, ":no-index"),
    ),
    Case(
        "born in a month",
        "SELECT HEX(id) FROM passenger WHERE born BETWEEN '1990-05-01' AND '1990-05-31'",
        (":no-index",),
    ),
    Case(
        "who may take a bicycle",
        "SELECT count(*) FROM passenger WHERE FIND_IN_SET('quiet', perks)",
        (*COMPUTED, ":no-index", ":condition-not-searchable"),
    ),
    Case(
        "a flag",
        "SELECT count(*) FROM passenger WHERE flags & 192 = 192 AND first = 'Ada'",
        (*COMPUTED, ":no-index"),
    ),
    Case("some by chance", "SELECT mail FROM passenger ORDER BY RAND() LIMIT 5", ("random-order",)),
    Case(
        "tickets of a passenger",
        "SELECT id, trip_id FROM ticket WHERE passenger = "
        "UNHEX(MD5('p777')) ORDER BY bought DESC LIMIT 10",
        (":no-index", "top-n-without-index"),
    ),
    Case(
        "ticket by its reference",
        "SELECT * FROM ticket WHERE ref = 'T000777777'",
        (":prefix-index", ":no-index", "index-scan-discards-most"),
    ),
    Case(
        "tickets of an agent, as a number",
        "SELECT count(*) FROM ticket WHERE agent = 77",
        (":type-mismatch",),
    ),
    Case(
        "tickets of a town's agents",
        "SELECT count(*) FROM agent a JOIN ticket t ON t.agent = a.code WHERE a.town = 'Town 7'",
        (),
        (),
    ),
    Case(
        "refunded",
        "SELECT id, price FROM ticket WHERE refunded IS NOT NULL AND price > 180",
        (":no-index",),
    ),
    Case(
        "refunded since, nulls as old",
        "SELECT id FROM ticket WHERE IFNULL(refunded, '1970-01-01') > '2025-12-01'",
        COMPUTED,
    ),
    Case(
        "dearest",
        "SELECT id, price FROM ticket ORDER BY price DESC LIMIT 10",
        ("top-n-without-index",),
    ),
    Case(
        "last bought",
        "SELECT max(bought) FROM ticket",
        ("full-scan-avoidable", "selective-full-scan", "top-n-without-index", ":no-index"),
    ),
    Case("takings by class", "SELECT class, sum(price) FROM ticket GROUP BY class", (), WELL),
    Case(
        "first class of a day",
        "SELECT id FROM ticket WHERE class = '1' AND bought >= '2025-05-05' "
        "AND bought < '2025-05-06'",
        (":no-index",),
    ),
    Case(
        "who bought lately",
        "SELECT DISTINCT p.mail FROM passenger p JOIN ticket t ON t.passenger = p.id WHERE "
        "t.bought >= '2025-12-30'",
        (":no-index", "join-where-a-test-would-do", "distinct-hides-fan-out"),
    ),
    Case(
        "first class made second",
        "UPDATE ticket SET class = '2' WHERE class = '1' AND bought < '2025-01-02'",
        (":no-index",),
        writes=True,
    ),
    Case(
        "last fault of each sleeper",
        "SELECT w.id, (SELECT max(at) FROM fault f WHERE f.wagon_id = "
        "w.id) FROM wagon w WHERE w.kind = 'sleeper'",
        ("subquery-per-row", ":no-index"),
    ),
    Case(
        "wagons that never ran",
        "SELECT id FROM wagon WHERE id NOT IN (SELECT wagon_id FROM formation)",
        (":no-index", "join-side-without-index", "subquery-per-row"),
    ),
    Case(
        "sleepers that never ran",
        "SELECT w.id FROM wagon w WHERE w.kind = 'sleeper' AND NOT EXISTS "
        "(SELECT 1 FROM formation f WHERE f.wagon_id = w.id)",
        (":no-index", "join-side-without-index", "subquery-per-row"),
    ),
    Case(
        "wagons with a fault",
        "SELECT plate FROM wagon WHERE id IN (SELECT wagon_id FROM fault WHERE code = 'F777')",
        (":no-index",),
    ),
    Case(
        "grave ones still open",
        "SELECT id, wagon_id FROM fault WHERE closed IS NULL AND severity = 5",
        (
            "missing-covering-index",
            ":condition-not-in-index",
            ":no-index",
            "index-scan-discards-most",
        ),
    ),
    Case(
        "faults that say",
        "SELECT id FROM fault WHERE words LIKE '%door 777,%'",
        (":leading-wildcard",),
    ),
    Case(
        "last fault of a wagon",
        "SELECT f.* FROM fault f JOIN (SELECT wagon_id, max(at) AS last "
        "FROM fault GROUP BY wagon_id) x ON x.wagon_id = f.wagon_id AND x.last = f.at WHERE "
        "f.wagon_id = 77",
        (":no-index", "aggregation-before-join", "join-side-without-index"),
    ),
    Case(
        "claims that say",
        "SELECT id FROM claim WHERE MATCH (words) AGAINST ('number777')",
        (),
        WELL,
    ),
    Case(
        "claims of tickets of a day",
        "SELECT c.id, t.price FROM ticket t JOIN claim c ON "
        "c.ticket_id = t.id WHERE t.trip_id = 777",
        (":no-index", "join-side-without-index"),
    ),
    Case(
        "below a chief",
        "WITH RECURSIVE below AS (SELECT id FROM crew WHERE id = 77 UNION ALL "
        "SELECT c.id FROM crew c JOIN below b ON c.boss = b.id) SELECT count(*) FROM below",
        (":no-index", "join-side-without-index"),
    ),
    Case("badge as a number", "SELECT * FROM crew WHERE badge = 23870", (":type-mismatch",)),
    Case("duties on a trip", "SELECT crew_id FROM duty WHERE trip_id = 777", (":no-index",)),
    Case(
        "where a train was last",
        "SELECT block, at FROM movement WHERE train = 'IC 777' ORDER BY at DESC LIMIT 1",
        (":no-index", "top-n-without-index", "index-scan-discards-most", ":condition-not-in-index"),
    ),
    Case(
        "a train to the letter",
        "SELECT count(*) FROM movement WHERE BINARY train = 'IC 777'",
        (*COMPUTED, ":type-mismatch", ":no-index"),
    ),
    Case(
        "movements of minutes",
        "SELECT block, train FROM movement WHERE at >= '2025-05-05 08:00' AND"
        " at < '2025-05-05 08:30'",
        (),
        WELL,
    ),
    Case(
        "a block's or a train's",
        "SELECT id FROM movement WHERE block = 'B77' OR train = 'IC 777'",
        (":or-over-columns", ":no-index"),
    ),
    Case(
        "far behind",
        "SELECT id, at, block FROM movement ORDER BY at LIMIT 20 OFFSET 150000",
        ("deep-paging",),
    ),
    Case(
        "tests taken away", "DELETE FROM movement WHERE kind = 'test'", (":no-index",), writes=True
    ),
    Case(
        "last in a block, each train's",
        "SELECT * FROM (SELECT m.*, ROW_NUMBER() OVER (PARTITION BY "
        "train ORDER BY at DESC) AS n FROM movement m) x WHERE n = 1 AND block = 'B77'",
        ("filter-outside-subquery", "top-n-of-groups", "sort-without-index"),
    ),
    Case(
        "fare on a day",
        "SELECT price FROM fare WHERE from_id = 7 AND to_id = 91 AND class = '2' AND "
        "valid_from <= '2025-05-05' AND valid_to > '2025-05-05'",
        (),
        WELL,
    ),
    Case(
        "fares to a place",
        "SELECT from_id, price FROM fare WHERE to_id = 91 AND class = '1'",
        (":no-index", ":not-the-leading-column"),
    ),
    Case(
        "beacons near",
        "SELECT id FROM beacon WHERE ST_Distance(spot, POINT(20, 15)) < 0.3",
        (*COMPUTED, ":condition-not-searchable", ":no-index"),
    ),
    Case(
        "beacons within",
        "SELECT id FROM beacon WHERE MBRContains(ST_GeomFromText('POLYGON((20 15,"
        "20 15.3,20.3 15.3,20.3 15,20 15))'), spot)",
        (),
        WELL,
    ),
]
