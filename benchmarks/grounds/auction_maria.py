"""The auction house on MariaDB: statements as its users write them, with what an expert would say.

They were written, and counted, before the rules were tried on them. Names are invented.
"""

from __future__ import annotations

from benchmarks.grounds.cases import Case

SCHEMA = """
CREATE DATABASE auction CHARACTER SET utf8mb4;
USE auction;
CREATE TABLE house (id INT PRIMARY KEY, name VARCHAR(40) NOT NULL, region VARCHAR(20) NOT NULL);
CREATE TABLE person (
    id BIGINT AUTO_INCREMENT PRIMARY KEY, handle VARCHAR(40) NOT NULL UNIQUE,
    email VARCHAR(80) NOT NULL, born DATE, country CHAR(2) NOT NULL, joined DATETIME NOT NULL,
    trust DECIMAL(5, 2), flags INT NOT NULL, address JSON);
CREATE TABLE lot (
    id BIGINT AUTO_INCREMENT PRIMARY KEY, house_id INT NOT NULL, seller_id BIGINT NOT NULL,
    category_id INT NOT NULL, title VARCHAR(120) NOT NULL, descr TEXT NOT NULL,
    opens DATETIME NOT NULL, closes DATETIME NOT NULL, reserve DECIMAL(10, 2),
    state ENUM('draft', 'open', 'sold', 'unsold', 'withdrawn') NOT NULL, maker VARCHAR(20) NOT NULL,
    KEY lot_house (house_id), KEY lot_category (category_id, state));
CREATE TABLE bid (
    id BIGINT AUTO_INCREMENT PRIMARY KEY, lot_id BIGINT NOT NULL, bidder_id BIGINT NOT NULL,
    amount DECIMAL(10, 2), placed_at DATETIME NOT NULL, source TINYINT NOT NULL,
    void TINYINT NOT NULL DEFAULT 0, KEY bid_lot (lot_id), KEY bid_at (placed_at));
CREATE TABLE watch (
    person_id BIGINT NOT NULL, lot_id BIGINT NOT NULL, since DATETIME NOT NULL,
    PRIMARY KEY (person_id, lot_id));
CREATE TABLE message (
    id BIGINT PRIMARY KEY, thread CHAR(32) NOT NULL, from_id BIGINT NOT NULL, to_id BIGINT NOT NULL,
    sent_at DATETIME NOT NULL, body TEXT NOT NULL, seen_at DATETIME, KEY message_thread (thread));
CREATE TABLE payment (
    id INT PRIMARY KEY, lot_id INT NOT NULL, payer VARCHAR(20) NOT NULL, amount DECIMAL(10, 2),
    paid_at DATETIME NOT NULL, method VARCHAR(10) NOT NULL, ref VARCHAR(20),
    KEY payment_payer (payer), KEY payment_lot (lot_id));
CREATE TABLE rate (
    currency CHAR(3) NOT NULL, day DATE NOT NULL, rate DOUBLE NOT NULL,
    PRIMARY KEY (currency, day));
CREATE TABLE journal (
    id BIGINT AUTO_INCREMENT PRIMARY KEY, at DATETIME NOT NULL, who VARCHAR(40) NOT NULL,
    what VARCHAR(10) NOT NULL, ip VARCHAR(20) NOT NULL);
CREATE VIEW good_bid AS SELECT * FROM bid WHERE void = 0;
INSERT INTO house SELECT seq, CONCAT('House ', seq), ELT(1 + seq % 4, 'north', 'east', 'south',
    'west') FROM seq_1_to_40;
INSERT INTO person SELECT seq, CONCAT('bidder', seq), CONCAT('bidder', seq, '@post.example'),
    IF(seq % 11, '1940-01-01' + INTERVAL seq * 7919 % 24000 DAY, NULL),
    ELT(1 + seq * seq % 6, 'NL', 'DE', 'FR', 'DK', 'SE', 'NO'),
    '2015-01-01' + INTERVAL seq * 97 MINUTE, seq * 7919 % 10000 / 100, seq % 128,
    JSON_OBJECT('city', CONCAT('Town ', seq % 900)) FROM seq_1_to_40000;
INSERT INTO lot SELECT seq, 1 + seq % 40, 1 + seq * 7919 % 40000, 1 + seq * 31 % 1500,
    CONCAT(ELT(1 + seq % 6, 'Oak', 'Brass', 'Silver', 'Linen', 'Tin', 'Glass'), ' lamp no ', seq),
    CONCAT('From the estate of keeper ', seq % 5000, REPEAT(', worn but whole', 1 + seq % 5)),
    '2025-01-01' + INTERVAL seq % 330 DAY, '2025-01-02' + INTERVAL seq % 330 + seq % 14 DAY,
    IF(seq % 4, 20 + seq * 13 % 900, NULL),
    CASE WHEN seq % 200 = 0 THEN 'withdrawn' WHEN seq % 50 = 0 THEN 'draft' WHEN seq % 10 = 0 THEN
    'open' WHEN seq % 3 = 0 THEN 'unsold' ELSE 'sold' END, CONCAT('M', seq % 2500)
    FROM seq_1_to_90000;
INSERT INTO bid SELECT seq, 1 + seq * 7919 % 90000, 1 + seq * 4801 % 40000, 10 + seq * 17 % 2000,
    '2025-01-01' + INTERVAL seq * 80 SECOND, seq % 5, seq % 97 = 0 FROM seq_1_to_350000;
INSERT IGNORE INTO watch SELECT 1 + seq * 7919 % 40000, 1 + seq * 104729 % 90000,
    '2025-01-01' + INTERVAL seq MINUTE FROM seq_1_to_120000;
INSERT INTO message SELECT seq, MD5(seq DIV 8), 1 + seq * 31 % 40000, 1 + seq * 17 % 40000,
    '2025-01-01' + INTERVAL seq * 2 MINUTE, CONCAT('About the lot: ', MD5(seq)),
    IF(seq % 25, '2025-01-02' + INTERVAL seq * 2 MINUTE, NULL) FROM seq_1_to_100000;
INSERT INTO payment SELECT seq, seq, 1 + seq * 13 % 40000, seq * 17 % 2000,
    '2025-01-01' + INTERVAL seq * 6 MINUTE, ELT(1 + seq % 5, 'card', 'card', 'card', 'transfer',
    'cash'), CONCAT('R-', LPAD(seq, 8, '0')) FROM seq_1_to_80000;
INSERT INTO rate SELECT ELT(1 + seq % 6, 'DKK', 'SEK', 'NOK', 'GBP', 'USD', 'CHF'),
    '2015-01-01' + INTERVAL seq DIV 6 DAY, 0.5 + seq % 97 / 97 FROM seq_0_to_23999;
INSERT INTO journal SELECT seq, '2025-01-01' + INTERVAL seq * 150 SECOND, CONCAT('bidder', seq %
    3000), ELT(1 + seq % 5, 'login', 'bid', 'pay', 'watch', 'logout'), CONCAT('10.0.', seq % 250,
    '.', seq % 199) FROM seq_1_to_180000;
ANALYZE TABLE house, person, lot, bid, watch, message, payment, rate, journal;
"""
WELL = ("selective-full-scan", "index-scan-discards-most", ":no-index", "sort-without-index",
        "top-n-without-index", "join-side-without-index")  # fmt: skip
CASES = [
    Case(
        "seller's lots, latest first",
        "SELECT id, title, state FROM lot WHERE seller_id = 77 ORDER BY opens DESC LIMIT 20",
        (":no-index",),
    ),
    Case(
        "bids of a bidder in a month",
        "SELECT * FROM bid WHERE bidder_id = 777 AND placed_at >= "
        "'2025-05-01' AND placed_at < '2025-06-01'",
        (":no-index", ":condition-not-in-index"),
    ),
    Case(
        "bids of a bidder",
        "SELECT COUNT(*), MAX(amount) FROM bid WHERE bidder_id = 38000",
        (":no-index",),
    ),
    Case(
        "the month as text",
        "SELECT COUNT(*) FROM bid WHERE DATE_FORMAT(placed_at, '%Y-%m') = '2025-05'",
        (":function-on-column",),
    ),
    Case(
        "the day of a moment",
        "SELECT COUNT(*) FROM bid WHERE DATE(placed_at) < '2025-01-05'",
        (":function-on-column",),
    ),
    Case(
        "a year and a month",
        "SELECT * FROM bid WHERE MONTH(placed_at) = 5 AND DAY(placed_at) = 5 AND bidder_id < 50",
        (":function-on-column", ":no-index"),
    ),
    Case(
        "days since",
        "SELECT id FROM payment WHERE DATEDIFF('2025-12-01', paid_at) < 3",
        (":function-on-column", ":no-index"),
    ),
    Case(
        "a part of a title",
        "SELECT id, title FROM lot WHERE title LIKE '%no 1777%'",
        (":leading-wildcard",),
    ),
    Case(
        "the beginning of a title",
        "SELECT id, title FROM lot WHERE title LIKE 'Oak lamp no 177%'",
        (":no-index",),
    ),
    Case("who pays by number", "SELECT * FROM payment WHERE payer = 777", (":type-mismatch",)),
    Case(
        "payments joined by text and number",
        "SELECT p.handle, y.amount FROM person p JOIN payment "
        "y ON y.payer = p.id WHERE p.handle = 'bidder777'",
        (":type-mismatch",),
    ),
    Case("payments by reference", "SELECT * FROM payment WHERE ref = 'R-00000777'", (":no-index",)),
    Case(
        "a town in an address",
        "SELECT id FROM person WHERE JSON_VALUE(address, '$.city') = 'Town 77'",
        (":function-on-column", ":no-index"),
    ),
    Case("mail", "SELECT id FROM person WHERE email = 'bidder777@post.example'", (":no-index",)),
    Case(
        "mail in small letters",
        "SELECT id FROM person WHERE LOWER(email) = 'bidder777@post.example'",
        (":function-on-column",),
    ),
    Case(
        "messages unseen",
        "SELECT * FROM message WHERE to_id = 777 AND seen_at IS NULL",
        (":no-index",),
    ),
    Case(
        "either side",
        "SELECT COUNT(*) FROM message WHERE from_id = 777 OR to_id = 777",
        (":or-over-columns", ":no-index"),
    ),
    Case(
        "who watches a lot",
        "SELECT person_id FROM watch WHERE lot_id = 777",
        (":not-the-leading-column", "full-index-scan", ":no-index"),
    ),
    Case(
        "how many messages each",
        "SELECT l.id, (SELECT COUNT(*) FROM message m WHERE m.from_id = "
        "l.seller_id) FROM lot l WHERE l.category_id = 77 AND l.state = 'open'",
        ("subquery-per-row", ":no-index"),
    ),
    Case(
        "page 800",
        "SELECT id, title FROM lot ORDER BY closes, id LIMIT 25 OFFSET 20000",
        ("deep-paging",),
    ),
    Case(
        "the last rate of each",
        "SELECT r.* FROM rate r WHERE r.day = (SELECT MAX(x.day) FROM rate x "
        "WHERE x.currency = r.currency)",
        (),
        ("selective-full-scan:type-mismatch",),
    ),
    Case(
        "journal of a day",
        "SELECT COUNT(*) FROM journal WHERE at >= '2025-05-05' AND at < '2025-05-06'",
        (":no-index",),
    ),
    Case(
        "journal by address",
        "SELECT * FROM journal WHERE ip = '10.0.77.77' AND what = 'login'",
        (":no-index",),
    ),
    Case(
        "somebody's last entry",
        "SELECT * FROM journal WHERE who = 'bidder77' ORDER BY at DESC LIMIT 1",
        (":no-index", "top-n-without-index"),
    ),
    Case(
        "withdrawn lots",
        "SELECT id, title FROM lot WHERE state = 'withdrawn'",
        (":no-index", ":not-the-leading-column"),
    ),
    Case(
        "by arithmetic",
        "SELECT id FROM lot WHERE reserve * 1.2 > 1100",
        (":function-on-column", ":no-index"),
    ),
    Case(
        "coalesced",
        "SELECT id FROM lot WHERE COALESCE(reserve, 0) > 915",
        (":function-on-column", ":no-index"),
    ),
    Case(
        "two indexes for one table",
        "SELECT id FROM lot WHERE house_id = 7 AND category_id = 248",
        (),
        WELL[:1],
    ),
    Case(
        "range before equality",
        "SELECT COUNT(*) FROM bid WHERE placed_at > '2025-02-01' AND source = "
        "3 AND void = 1 AND lot_id < 500",
        (":condition-not-in-index", ":no-index"),
        measured=True,
    ),
    Case(
        "of each lot the best",
        "SELECT lot_id, MAX(amount) FROM good_bid WHERE lot_id BETWEEN 100 AND "
        "90000 GROUP BY lot_id",
        (),
        ("selective-full-scan",),
    ),
    Case(
        "sold in a region",
        "SELECT l.id FROM lot l JOIN house h ON h.id = l.house_id WHERE h.region = "
        "'north' AND l.maker = 'M77'",
        (":no-index", "index-scan-discards-most"),
    ),
    Case(
        "union of the same",
        "SELECT id FROM lot WHERE state = 'draft' UNION SELECT id FROM lot WHERE "
        "state = 'withdrawn'",
        (":no-index", ":not-the-leading-column", "needless-union"),
    ),
    Case(
        "not in",
        "SELECT COUNT(*) FROM person WHERE id NOT IN (SELECT bidder_id FROM bid)",
        (":no-index", "subquery-per-row", "join-side-without-index"),
    ),
    Case(
        "random order",
        "SELECT id FROM lot WHERE house_id = 7 ORDER BY RAND() LIMIT 5",
        (),
        WELL[:1],
    ),
    # What only looks like a trouble.
    Case("a lot", "SELECT * FROM lot WHERE id = 777", (), WELL),
    Case("a thread", "SELECT * FROM message WHERE thread = MD5(77) ORDER BY sent_at", (), WELL),
    Case("bids of a lot", "SELECT * FROM bid WHERE lot_id = 777", (), WELL),
    Case("sums by house", "SELECT house_id, COUNT(*) FROM lot GROUP BY house_id", (), WELL),
    Case(
        "most sold",
        "SELECT SUM(reserve) FROM lot WHERE state = 'sold'",
        (),
        ("selective-full-scan",),
    ),
    Case("houses", "SELECT * FROM house WHERE region = 'north'", (), WELL),
    Case("by handle", "SELECT * FROM person WHERE handle = 'bidder777'", (), WELL),
    Case("a rate", "SELECT rate FROM rate WHERE currency = 'DKK' AND day = '2020-02-02'", (), WELL),
    Case(
        "watched by one", "SELECT lot_id FROM watch WHERE person_id = 77 ORDER BY since", (), WELL
    ),
    Case(
        "by month",
        "SELECT DATE_FORMAT(placed_at, '%Y-%m') m, COUNT(*) FROM bid GROUP BY m",
        (),
        WELL,
    ),
    Case("paid by", "SELECT * FROM payment WHERE payer = '777'", (), WELL),
    Case("latest bids", "SELECT * FROM bid ORDER BY placed_at DESC LIMIT 10", (), WELL),
    Case(
        "open in a category",
        "SELECT id FROM lot WHERE category_id = 77 AND state = 'open'",
        (),
        WELL,
    ),
]
