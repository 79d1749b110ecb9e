"""Troubles on the parcel service, written when the rules were done, counted before any mending."""

# ruff: noqa: E501 - statements as one would type them

from __future__ import annotations

from benchmarks.grounds.cases import Case

SCAN = "selective-full-scan"
ONE_PROCESS = ("max_parallel_workers_per_gather = 0",)

POST = [
    Case("a parcel by its barcode", "SELECT * FROM parcel WHERE barcode = 'C4CA4238A0B9'",
         (":no-index",)),
    Case("the serial alone", "SELECT * FROM parcel WHERE serial = 4711",
         (":not-the-leading-column", "leading-column-missing", ":no-index")),
    Case("a badge as text", "SELECT s.* FROM hand h JOIN scan s ON s.hand::text = h.hand::text "
         "WHERE h.badge = 900077", (":function-on-column", ":type-mismatch",
                                    "join-side-without-index")),
    Case("a number against a text key", "SELECT * FROM sender WHERE sender_no LIKE '%4711'",
         (":leading-wildcard",)),
    Case("an hour of scans in local time", "SELECT count(*) FROM scan WHERE at AT TIME ZONE 'UTC' "
         ">= '2023-05-01 10:00+02' AND at AT TIME ZONE 'UTC' < '2023-05-01 11:00+02'",
         (":function-on-column",)),
    Case("age of a parcel", "SELECT * FROM parcel WHERE state < 5 AND now() - accepted > "
         "interval '100000 hours'", (":function-on-column", ":clock-in-expression", ":no-index")),
    Case("a state the partial index leaves out", "SELECT year, serial FROM parcel WHERE state <= 5 "
         "AND accepted > '2025-10-18' AND accepted < '2025-10-18 02:00+00'",
         (":partial-index-misses", ":no-index", "partial-index-misses")),
    Case("the longest way", "SELECT * FROM parcel WHERE 'I17' = ANY (stops) AND 'I23' = ANY (stops)",
         (":no-index", ":condition-not-searchable", ":function-on-column")),
    Case("the tag of a sender", "SELECT sender_no FROM sender WHERE about -> 'tags' ? 't7' AND "
         "about ->> 'vat' = 'NO77'", (":no-index", ":function-on-column")),
    Case("a tariff of a day", "SELECT * FROM tariff WHERE valid @> date '2030-05-01' AND zone = 3",
         (":no-index", ":condition-not-searchable")),
    Case("claims of a parcel", "SELECT p.year, p.serial, c.amount FROM parcel p JOIN claim c USING "
         "(year, serial) WHERE p.sender_no = 'S77'", (":no-index", "join-side-without-index")),
    Case("a parcel's last scan per row", "SELECT p.year, p.serial, (SELECT s.device FROM scan s "
         "WHERE s.serial = p.serial AND s.device <> '' ORDER BY s.at DESC LIMIT 1) FROM parcel p "
         "WHERE p.state = 2 AND p.to_island = 'I05' LIMIT 20",
         ("subquery-per-row", ":not-the-leading-column", "leading-column-missing", ":no-index")),
    Case("letters sorted", "SELECT * FROM claim ORDER BY letter, amount",
         ("sort-spills",), measured=True, settings=("work_mem = '1MB'", *ONE_PROCESS)),
    Case("groups of receivers", "SELECT to_name, count(*), sum(price) FROM parcel GROUP BY to_name",
         ("hash-spills", "sort-spills"), measured=True,
         settings=("work_mem = '1MB'", *ONE_PROCESS)),
    Case("the heaviest", "SELECT year, serial, weight_g FROM parcel ORDER BY weight_g DESC LIMIT 10",
         ("top-n-without-index",)),
    Case("page 5,000 of the scans", "SELECT * FROM scan ORDER BY at OFFSET 250000 LIMIT 50",
         ("deep-paging", "top-n-without-index", "sort-without-index")),
    Case("every island with every sender", "SELECT count(*) FROM parcel p, sender s, island i WHERE "
         "p.sender_no = s.sender_no AND s.joined > '2024-12-01' AND i.zone = 2",
         ("missing-join-condition",)),
    Case("senders without a parcel", "SELECT name FROM sender WHERE sender_no NOT IN (SELECT "
         "sender_no FROM parcel WHERE delivered IS NULL)", ("subquery-per-row",
         "result-looked-through-again", "materialize-spills", ":result-looked-through-again"),
         settings=("work_mem = '64kB'",)),
    Case("two states or a name", "SELECT * FROM parcel WHERE to_name = 'Receiver 77' OR barcode = "
         "'C4CA4238A0B9'", (":no-index", ":or-over-columns")),
    Case("a sender or the receiver", "SELECT p.* FROM parcel p JOIN sender s USING (sender_no) WHERE "
         "s.phone = '+47000077' OR p.to_name = 'Receiver 77'",
         (":or-over-joined-tables", ":or-over-columns", "late-join-filter")),
    Case("zone and code, which move together", "SELECT s.name, count(*) FROM parcel p JOIN sender s "
         "USING (sender_no) WHERE p.state = 5 AND p.delivered IS NULL GROUP BY 1",
         ("row-misestimate",), measured=True),
    Case("a login of one who is named", "SELECT * FROM happening WHERE who = 'S77'",
         (":no-index",)),
    Case("closing all claims of a day", "UPDATE claim SET closed = now() WHERE opened = '2023-05-01' "
         "AND closed IS NULL", (":no-index",)),
    Case("removing a parcel", "DELETE FROM parcel WHERE year = 2023 AND serial = 4711",
         (":no-index", "work-behind-the-change", "foreign-key-without-index")),
    Case("a name in any spelling", "SELECT * FROM sender WHERE upper(name) = 'SENDER 77'",
         (":function-on-column", ":no-index")),
    Case("the sender's newest, by a window", "SELECT * FROM (SELECT p.*, row_number() OVER (PARTITION "
         "BY to_island ORDER BY accepted DESC) AS n FROM parcel p) q WHERE n = 1",
         ("sort-without-index", "sort-spills", "top-n-without-index", ":no-index-in-this-order",
          "sort-order-mismatch"), measured=True, settings=("work_mem = '4MB'", *ONE_PROCESS)),
    Case("counted twice", "SELECT count(DISTINCT p.serial) FROM parcel p JOIN scan s ON s.year = "
         "p.year AND s.serial = p.serial WHERE p.sender_no LIKE 'S77%'",
         (":type-mismatch", ":condition-not-searchable", ":no-index", "join-where-a-test-would-do",
          "distinct-hides-fan-out", SCAN)),
    Case("a generated column", "SELECT year, serial FROM parcel WHERE grams_per_price > 3900",
         (":no-index",)),
    # What only looks like trouble.
    Case("one parcel", "SELECT * FROM parcel WHERE year = 2023 AND serial = 4711",
         wrong=(":no-index", SCAN)),
    Case("what is on its way", "SELECT count(*) FROM parcel WHERE state < 5 AND accepted > "
         "'2025-10-15'", wrong=(SCAN, "partial-index-misses")),
    Case("parcels by state", "SELECT state, count(*), avg(weight_g) FROM parcel GROUP BY state",
         wrong=(SCAN, ":no-index", "late-aggregation")),
    Case("scans of a parcel in order", "SELECT * FROM scan WHERE year = 2023 AND serial = 4711 ORDER "
         "BY at", wrong=("sort-without-index", SCAN)),
    Case("all heavy ones", "SELECT * FROM parcel WHERE weight_g > 3000", wrong=(":no-index", SCAN)),
    Case("islands of a zone", "SELECT * FROM island WHERE zone = 2", wrong=(":no-index", SCAN)),
    Case("hands and their bosses", "SELECT h.name, b.name FROM hand h LEFT JOIN hand b ON b.hand = "
         "h.boss ORDER BY 1", wrong=("join-side-without-index", "missing-join-condition")),
    Case("senders of a page", "SELECT * FROM sender ORDER BY sender_no LIMIT 50 OFFSET 100",
         wrong=("deep-paging", "top-n-without-index")),
    Case("each island beside each zone", "SELECT i.code, z FROM island i CROSS JOIN "
         "generate_series(0, 5) z", wrong=("missing-join-condition",)),
    Case("parcels of a sender this year", "SELECT * FROM parcel WHERE sender_no = 'S77' AND accepted "
         ">= '2025-01-01' ORDER BY accepted DESC LIMIT 5",
         wrong=("top-n-without-index", "sort-without-index", SCAN)),
    Case("the year's sums per island", "SELECT i.name, sum(p.price) FROM parcel p JOIN island i ON "
         "i.code = p.to_island GROUP BY i.name", wrong=("late-aggregation", SCAN, ":no-index")),
    Case("prints of a week", "SELECT count(*) FROM happening WHERE kind = 'print' AND at >= "
         "'2024-03-01' AND at < '2024-03-08'", wrong=(":no-index", SCAN)),
    Case("one sender's name", "SELECT name FROM sender WHERE sender_no = 'S' || 77",
         wrong=(":function-on-column", SCAN)),
    Case("a delete by key", "DELETE FROM scan WHERE scan_id = 77",
         wrong=("work-behind-the-change", ":no-index")),
]  # fmt: skip
# Written after the first were mended, and counted before anything was mended for them.
POST_LATER = [
    Case("joined by one or the other", "SELECT p.year, p.serial, s.name FROM parcel p JOIN sender s ON s.sender_no = "
         "p.sender_no OR s.name = p.to_name WHERE p.year = 2023 AND p.serial < 50",
         ("late-join-filter", ":or-over-joined-tables", ":or-over-columns", "missing-join-condition",
          "join-side-without-index", SCAN)),
    Case("the tariff of each parcel", "SELECT p.serial, t.price FROM parcel p JOIN tariff t ON t.grams @> p.weight_g "
         "AND t.valid @> p.accepted::date WHERE p.sender_no = 'S77'",
         (":no-index", "join-side-without-index", ":condition-not-searchable")),
    Case("words in a letter", "SELECT claim_id FROM claim WHERE to_tsvector('english', letter) @@ "
         "to_tsquery('english', 'claim & 4711')", (":no-index", ":function-on-column")),
    Case("part of a letter in any case", "SELECT claim_id FROM claim WHERE letter ILIKE '%CLAIM 4711 %'",
         (":leading-wildcard", ":case-insensitive-match")),
    Case("a number by its first digits", "SELECT * FROM parcel WHERE serial::text LIKE '4711%' AND weight_g < 130",
         (":function-on-column", ":no-index", ":type-mismatch", ":not-the-leading-column")),
    Case("the newest odd ones", "SELECT * FROM parcel WHERE state = 6 ORDER BY accepted DESC LIMIT 10",
         ("top-n-without-index", SCAN)),
    Case("hands without a scan of late", "SELECT h.hand FROM hand h WHERE NOT EXISTS (SELECT FROM scan s WHERE s.hand = "
         "h.hand AND s.device = 'dev-77')", ("subquery-per-row", ":no-index", "index-scan-discards-most", SCAN)),
    Case("claims closed from a list", "UPDATE claim c SET closed = '2024-01-01' FROM parcel p WHERE p.year = c.year AND "
         "p.serial = c.serial AND p.barcode = 'C4CA4238A0B9'", (":no-index", "join-side-without-index")),
    Case("new names only", "INSERT INTO island SELECT DISTINCT 'X' || left(p.to_name, 2), p.to_name, 1 FROM parcel p "
         "WHERE NOT EXISTS (SELECT FROM claim c WHERE c.letter = p.to_name) AND p.to_name < 'Receiver 10'",
         (":no-index", "join-side-without-index", SCAN)),
    Case("two sets that cannot meet", "SELECT sender_no, 'open' AS what FROM parcel WHERE state < 5 UNION SELECT "
         "sender_no, 'done' FROM parcel WHERE state = 5", ("distinct-of-what-differs", "hash-spills", "sort-spills",
         "needless-distinct"), measured=True, settings=("work_mem = '1MB'", *ONE_PROCESS)),
    Case("parcels of each hour of a day", "SELECT g, (SELECT count(*) FROM scan s WHERE s.at >= g AND s.at < g + interval "
         "'1 hour') FROM generate_series(timestamp '2023-05-01', timestamp '2023-05-01 23:00', interval '1 hour') g",
         ("subquery-per-row", ":no-index", SCAN)),
    Case("device and hand together", "SELECT count(*) FROM scan WHERE hand = 77 AND device = 'dev-77'",
         ("index-scan-discards-most", ":no-index", ":condition-not-in-index")),
    Case("the last island of the way", "SELECT year, serial FROM parcel WHERE stops[2] = 'I17' AND to_name = 'Receiver 5'",
         (":no-index", ":function-on-column")),
    Case("logins by address", "SELECT count(*) FROM happening WHERE kind = 'login' AND note ->> 'ip' = '10.7.1.77'",
         (":no-index", ":function-on-column")),
    Case("senders by an address in a list", "SELECT name FROM sender WHERE about @> '{\"vat\": \"NO77\"}'",
         (":no-index",)),
    Case("who has the most parcels", "SELECT s.name FROM sender s WHERE (SELECT count(*) FROM parcel p WHERE p.sender_no = "
         "s.sender_no AND p.state = 6) > 3", ("subquery-per-row", ":no-index", "index-scan-discards-most")),
    Case("a price between two", "SELECT year, serial FROM parcel WHERE price * 1.25 BETWEEN 118.6 AND 118.7",
         (":function-on-column", ":no-index")),
    Case("not delivered, by a negation", "SELECT count(*) FROM parcel WHERE NOT (state >= 5) AND accepted > '2025-10-19'",
         ("partial-index-misses", ":partial-index-misses", ":no-index", SCAN)),
    Case("all of a day, as text", "SELECT count(*) FROM parcel WHERE to_char(accepted, 'YYYY-MM-DD') = '2024-02-03'",
         (":function-on-column", ":no-index")),
    Case("names put in order for one page", "SELECT name, phone FROM sender ORDER BY kind, name LIMIT 20",
         ("top-n-without-index",)),
    Case("the first claim of each reason", "SELECT DISTINCT ON (reason) reason, opened, amount FROM claim ORDER BY reason, "
         "opened", ("sort-without-index", "sort-spills", "top-n-without-index"), measured=True,
         settings=("work_mem = '256kB'", *ONE_PROCESS)),
    # What only looks like trouble.
    Case("the next parcels", "SELECT * FROM parcel WHERE (year, serial) > (2024, 500) ORDER BY year, serial LIMIT 20",
         wrong=("top-n-without-index", "sort-without-index", SCAN, "index-scan-discards-most")),
    Case("parcels a month", "SELECT date_trunc('month', accepted), count(*) FROM parcel GROUP BY 1",
         wrong=(SCAN, ":function-on-column", ":no-index")),
    Case("claims of two parcels", "SELECT * FROM parcel p WHERE (p.year, p.serial) IN ((2023, 7), (2024, 8))",
         wrong=(SCAN, ":no-index", ":or-over-columns")),
    Case("senders of two kinds", "SELECT kind, count(*) FROM sender WHERE kind IN ('shop', 'person') GROUP BY kind",
         wrong=(SCAN, ":no-index")),
    Case("the hand with the badge", "SELECT name FROM hand WHERE badge = 900077", wrong=(SCAN, ":no-index")),
    Case("open parcels and their senders", "SELECT p.serial, s.name FROM parcel p JOIN sender s USING (sender_no) WHERE "
         "p.state < 5 AND p.accepted > '2025-10-18'",
         wrong=("join-side-without-index", SCAN, "partial-index-misses")),
    Case("each island's share", "SELECT to_island, count(*) * 100.0 / sum(count(*)) OVER () FROM parcel GROUP BY 1",
         wrong=(SCAN, ":no-index", "late-aggregation", "top-n-without-index")),
    Case("numbers of the rows of one sender", "SELECT serial, row_number() OVER (ORDER BY accepted) FROM parcel WHERE "
         "sender_no = 'S77'", wrong=("top-n-without-index", "sort-without-index", SCAN)),
]  # fmt: skip
# A third batch, written after all of these were mended, and counted before anything was for it.
POST_THIRD = [
    Case("a device's newest scan", "SELECT * FROM scan WHERE device = 'dev-77' ORDER BY at DESC LIMIT 1",
         (":no-index", "top-n-without-index", SCAN)),
    Case("lost and still open", "SELECT claim_id, amount FROM claim WHERE closed IS NULL AND reason = 'lost'",
         (":no-index",)),
    Case("scans of a claim, without the year", "SELECT s.at FROM claim c JOIN scan s ON s.serial = c.serial WHERE "
         "c.claim_id = md5('c17')::uuid", ("join-side-without-index", "leading-column-missing",
         ":not-the-leading-column", ":no-index")),
    Case("delivered on a day", "SELECT count(*) FROM parcel WHERE delivered::date = '2024-05-01'",
         (":function-on-column", ":no-index")),
    Case("a phone that may be missing", "SELECT sender_no FROM sender WHERE coalesce(phone, '') = '+47000077'",
         (":function-on-column", ":no-index")),
    Case("receivers who are senders", "SELECT p.serial, s.sender_no FROM parcel p JOIN sender s ON lower(s.name) = "
         "lower(p.to_name) WHERE p.year = 2023 AND p.serial < 100",
         (":function-on-column", "join-side-without-index", ":no-index")),
    Case("the largest claim of each parcel", "SELECT c.claim_id FROM claim c WHERE c.reason = 'lost' AND c.amount = (SELECT "
         "max(x.amount) FROM claim x WHERE x.year = c.year AND x.serial = c.serial)",
         ("subquery-per-row", ":no-index")),
    Case("two barcodes marked", "UPDATE parcel SET state = 6 WHERE barcode IN ('C4CA4238A0B9', 'C81E728D9D4C')",
         (":no-index",)),
    Case("one who is forgotten", "DELETE FROM happening WHERE who = 'S77' AND kind = 'login'", (":no-index",)),
    Case("the dearest by weight", "SELECT year, serial FROM parcel ORDER BY price / weight_g DESC LIMIT 5",
         ("top-n-without-index",)),
    Case("page 15,000 of the parcels", "SELECT * FROM parcel ORDER BY year, serial OFFSET 300000 LIMIT 20",
         ("deep-paging",)),
    Case("senders with a parcel gone astray", "SELECT DISTINCT s.sender_no, s.name FROM sender s JOIN parcel p USING "
         "(sender_no) WHERE p.state = 6", ("join-where-a-test-would-do", "distinct-hides-fan-out", ":no-index", SCAN)),
    Case("all that went wrong, once", "SELECT count(*) FROM (SELECT serial FROM parcel WHERE state = 5 UNION SELECT serial "
         "FROM claim) q", ("hash-spills", "sort-spills", "needless-distinct"), measured=True,
         settings=("work_mem = '256kB'", *ONE_PROCESS)),
    Case("a claim beside all of an island", "SELECT count(*) FROM claim c, parcel p WHERE c.year = 2023 AND c.serial = 5 AND "
         "p.to_island = 'I05'", ("missing-join-condition", ":no-index")),
    Case("astray and not delivered", "SELECT count(*) FROM parcel p JOIN scan s USING (year, serial) WHERE p.state = 6 AND "
         "p.delivered IS NULL", ("row-misestimate", "join-misestimate", ":no-index"), measured=True),
    Case("dearer than heavy", "SELECT count(*) FROM parcel WHERE price > weight_g", ("row-misestimate",), measured=True),
    Case("parcels with all their scans", "SELECT count(*) FROM parcel p JOIN scan s USING (year, serial)",
         ("hash-spills", "sort-spills"), measured=True, settings=("work_mem = '1MB'", "enable_mergejoin = off", *ONE_PROCESS)),
    Case("each receiver's parcels in order", "SELECT to_name, array_agg(serial ORDER BY accepted) FROM parcel GROUP BY to_name",
         ("sort-spills", "hash-spills"), measured=True, settings=("work_mem = '1MB'", *ONE_PROCESS)),
    Case("where each hand was last", "SELECT DISTINCT ON (hand) hand, at, island FROM scan ORDER BY hand, at DESC",
         ("sort-without-index", "sort-spills", "groups-read-whole", ":groups-read-whole", ":no-index-in-this-order",
          "top-n-without-index"), measured=True, settings=("work_mem = '4MB'", *ONE_PROCESS)),
    Case("a part of an address", "SELECT count(*) FROM happening WHERE note ->> 'ip' LIKE '10.77.%'",
         (":function-on-column", ":no-index")),
    Case("ways by one of two islands", "SELECT year, serial FROM parcel WHERE stops && ARRAY['I17', 'I18'] AND weight_g < 110",
         (":no-index", ":condition-not-searchable")),
    Case("scans that failed", "SELECT scan_id FROM scan WHERE ok <> true",
         (":no-index", ":condition-not-searchable", ":negation")),
    Case("trips on a day in the morning", "SELECT trip_id FROM round_trip WHERE 3 = ANY (days) AND leaves BETWEEN '08:00' AND "
         "'08:10'", (":no-index", ":function-on-column")),
    Case("scans up to this moment", "SELECT * FROM scan WHERE at > clock_timestamp() - interval '1000 days' AND device = 'dev-5'",
         ("volatile-filter", ":value-not-stable", ":no-index")),
    Case("one parcel out of a list made first", "WITH p AS MATERIALIZED (SELECT * FROM parcel) SELECT * FROM p WHERE year = 2023 "
         "AND serial = 4711", ("filter-outside-cte",)),
    Case("five parcels drawn", "SELECT year, serial FROM parcel ORDER BY random() LIMIT 5",
         (":order-by-chance", "order-by-chance", "top-n-without-index", "volatile-filter")),
    # What only looks like trouble.
    Case("a group chosen afterwards", "SELECT sender_no, count(*) FROM parcel GROUP BY sender_no HAVING sender_no = 'S77'",
         wrong=(SCAN, "late-aggregation", "late-join-filter")),
    Case("a parcel's last scan", "SELECT max(at) FROM scan WHERE year = 2023 AND serial = 77",
         wrong=(SCAN, "top-n-without-index", "sort-without-index")),
    Case("how many scans", "SELECT count(*) FROM scan", wrong=(SCAN, ":no-index")),
    Case("a sender's delivered parcels", "SELECT * FROM parcel WHERE sender_no = 'S77' AND state = 5",
         wrong=("index-scan-discards-most", SCAN)),
    Case("a hand by its name", "SELECT * FROM hand WHERE lower(name) = 'hand 77'",
         wrong=(":no-index", SCAN, ":function-on-column")),
    Case("some parcels with their islands", "SELECT p.serial, i.name FROM parcel p, island i WHERE p.to_island = i.code AND "
         "p.year = 2024 AND p.serial BETWEEN 100 AND 120", wrong=("missing-join-condition", "join-side-without-index", SCAN)),
    Case("kinds of senders", "SELECT DISTINCT kind FROM sender", wrong=("needless-distinct", SCAN, ":no-index")),
    Case("all claims since the start", "SELECT count(*) FROM claim WHERE opened >= '2022-01-01'", wrong=(SCAN, ":no-index")),
]  # fmt: skip
