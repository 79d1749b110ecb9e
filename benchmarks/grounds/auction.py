"""An auction house: ranges, arrays, texts to search, views on views, bids by month.

Statements were written, and counted, before the rules were tried on them. Names are invented.
"""

from __future__ import annotations

from benchmarks.grounds.cases import Case

WELL = (
    "selective-full-scan", "index-scan-discards-most", ":no-index", "sort-without-index",
    "top-n-without-index", "join-side-without-index",
)  # fmt: skip
AUCTION = [
    # Troubles: an expert's words for each.
    Case(
        "lots on at a moment, by a range",
        "SELECT id, title FROM sale.lot WHERE during @> timestamptz '2025-03-03 12:00+00' AND "
        "house_id = 7 AND tags @> ARRAY['t7']",
        (":no-index", "index-scan-discards-most"),
    ),
    Case(
        "lots with a tag",
        "SELECT id, title FROM sale.lot WHERE tags && ARRAY['t7', 't9']",
        (":no-index",),
    ),
    Case(
        "a tag looked for the wrong way",
        "SELECT id, title FROM sale.lot WHERE 't7' = ANY (tags)",
        (":no-index", ":condition-not-searchable"),
    ),
    Case(
        "words in a title",
        "SELECT id, title FROM sale.lot WHERE words @@ plainto_tsquery('english', 'sextant 177')",
        (":no-index",),
    ),
    Case(
        "words computed anew",
        "SELECT id FROM sale.lot WHERE to_tsvector('english', title) @@ to_tsquery('english', "
        "'barometer & 177')",
        (":no-index", ":function-on-column", ":condition-not-searchable"),
    ),
    Case(
        "a part of a title",
        "SELECT id, title FROM sale.lot WHERE title LIKE '%no 1777%'",
        (":leading-wildcard",),
    ),
    Case(
        "a maker in the attributes",
        "SELECT id, title FROM sale.lot WHERE attrs ->> 'maker' = 'M77'",
        (":no-index", ":function-on-column", ":expression-on-column"),
    ),
    Case(
        "a maker by path",
        "SELECT id FROM sale.lot WHERE attrs @? '$ ? (@.maker == \"M77\")'",
        (":no-index",),
    ),
    Case(
        "the seller's lots, latest first",
        "SELECT id, title, state FROM sale.lot WHERE seller_id = 77 ORDER BY opens DESC LIMIT 20",
        (":no-index", "top-n-without-index"),
    ),
    Case(
        "bids of a bidder in a month",
        "SELECT * FROM sale.bid WHERE bidder_id = 777 AND placed_at >= '2025-05-01' AND placed_at "
        "< '2025-06-01'",
        (":no-index",),
    ),
    Case(
        "bids of a bidder, ever",
        "SELECT count(*), max(amount) FROM sale.bid WHERE bidder_id = 88000",
        (":no-index",),
    ),
    Case(
        "the month as text",
        "SELECT count(*) FROM sale.bid WHERE to_char(placed_at, 'YYYY-MM') = '2025-05'",
        (":function-on-column", "partitions-not-pruned", ":condition-not-searchable"),
    ),
    Case(
        "the day by a cast",
        "SELECT count(*) FROM sale.bid WHERE placed_at::date = '2025-05-05'",
        (":cast-on-column", ":type-mismatch", ":function-on-column", "partitions-not-pruned"),
    ),
    Case(
        "who was born on a day",
        "SELECT id, handle FROM sale.person WHERE extract(month FROM born) = 2 AND extract(day "
        "FROM born) = 29",
        (":function-on-column", ":no-index"),
    ),
    Case(
        "an address's town",
        "SELECT id, handle FROM sale.person WHERE address ->> 'city' = 'Town 77'",
        (":no-index", ":function-on-column", ":expression-on-column"),
    ),
    Case(
        "mail as typed",
        "SELECT id FROM sale.person WHERE email = 'bidder777@post.example'",
        (":no-index",),
    ),
    Case(
        "mail in capitals",
        "SELECT id FROM sale.person WHERE upper(email) = 'BIDDER777@POST.EXAMPLE'",
        (":function-on-column", ":no-index"),
    ),
    Case(
        "who pays by number",
        "SELECT * FROM sale.payment WHERE payer::bigint = 777",
        (":cast-on-column", ":type-mismatch"),
    ),
    Case(
        "payments joined by text and number",
        "SELECT p.handle, y.amount FROM sale.person p JOIN sale.payment y ON y.payer = p.id::text "
        "WHERE y.ref = 'R-00000777'",
        (":cast-on-column", ":type-mismatch", ":no-index", ":function-on-column"),
    ),
    Case(
        "payments on a day",
        "SELECT sum(amount) FROM sale.payment WHERE date_trunc('day', paid_at) = '2025-05-05'",
        (":function-on-column",),
    ),
    Case(
        "payments of late",
        "SELECT * FROM sale.payment WHERE paid_at + interval '30 days' > timestamp '2025-12-25'",
        (":expression-on-column", ":function-on-column", ":arithmetic-on-column", ":no-index"),
    ),
    Case(
        "flags by arithmetic",
        "SELECT id FROM sale.person WHERE flags & 64 = 64 AND trust > 99.9",
        (":no-index",),
    ),
    Case(
        "messages unseen",
        "SELECT * FROM sale.message WHERE to_id = 777 AND seen_at IS NULL",
        (":no-index",),
    ),
    Case(
        "messages between two",
        "SELECT * FROM sale.message WHERE (from_id = 31 AND to_id = 18) OR (from_id = 18 AND to_id "
        "= 31) ORDER BY sent_at",
        (":or-over-columns",),
    ),
    Case(
        "either side",
        "SELECT count(*) FROM sale.message WHERE from_id = 777 OR to_id = 777",
        (":or-over-columns",),
    ),
    Case(
        "who watches a lot",
        "SELECT person_id FROM sale.watch WHERE lot_id = 777",
        (":not-the-leading-column",),
    ),
    Case(
        "lots nobody bid on",
        "SELECT id FROM sale.lot WHERE id NOT IN (SELECT lot_id FROM sale.bid WHERE placed_at < "
        "'2025-02-01') AND house_id = 7",
        (),
        ("index-scan-discards-most", "subquery-per-row"),
    ),
    Case(
        "how many bids each",
        "SELECT l.id, (SELECT count(*) FROM sale.message m WHERE m.from_id = l.seller_id) FROM "
        "sale.lot l WHERE l.category_id = 77 AND l.state = 'open'",
        ("subquery-per-row", ":no-index"),
    ),
    Case(
        "the top bid of a lot through two views",
        "SELECT * FROM sale.top_bid WHERE bidder_id = 777",
        ("filter-outside-subquery",),
    ),
    Case(
        "page 4000",
        "SELECT id, title FROM sale.lot ORDER BY closes, id OFFSET 100000 LIMIT 25",
        ("deep-paging",),
    ),
    Case(
        "closing soon in a region",
        "SELECT id, title, closes FROM sale.open_lot WHERE region = 'north' AND category_id IN (7, "
        "8, 9) AND reserve IS NULL ORDER BY closes LIMIT 10",
        (),
        WELL[:1],
    ),
    Case(
        "the last rate of each",
        "SELECT DISTINCT ON (currency) currency, day, rate FROM sale.rate ORDER BY currency, day "
        "DESC",
        ("top-n-without-index",),
    ),
    Case(
        "journal of a day",
        "SELECT count(*) FROM sale.journal WHERE at >= '2025-05-05' AND at < '2025-05-06'",
        (":no-index",),
    ),
    Case(
        "journal by address",
        "SELECT * FROM sale.journal WHERE detail ->> 'ip' = '10.0.77.77' AND what = 'login'",
        (":no-index", ":function-on-column", ":expression-on-column"),
    ),
    Case(
        "somebody's last entry",
        "SELECT * FROM sale.journal WHERE who = 'bidder77' ORDER BY at DESC LIMIT 1",
        (":no-index", "top-n-without-index"),
    ),
    Case(
        "shouted names",
        "SELECT id FROM sale.person WHERE sale.shouted(handle) = 'BIDDER777'",
        (":function-on-column",),
    ),
    Case(
        "fees above",
        "SELECT id FROM sale.payment WHERE sale.fee(amount) > 239.9",
        (":function-on-column", ":no-index", ":expression-on-column", ":arithmetic-on-column"),
    ),
    Case(
        "the greater of two",
        "SELECT id FROM sale.lot WHERE coalesce(reserve, 0) > 918",
        (":function-on-column", ":no-index"),
    ),
    Case(
        "sold above reserve, all bids",
        "SELECT l.id FROM sale.lot l WHERE l.state = 'sold' AND l.house_id = 7 AND EXISTS (SELECT "
        "1 FROM sale.bid b WHERE b.lot_id = l.id AND b.amount > l.reserve * 50)",
        ("missing-covering-index", "index-scan-discards-most", ":no-index"),
    ),
    Case(
        "withdrawn lots",
        "SELECT id, title FROM sale.lot WHERE state = 'withdrawn'",
        ("leading-column-missing",),
    ),
    Case(
        "delete of a lot's seller",
        "DELETE FROM sale.person WHERE id = 89999",
        ("foreign-key-without-index",),
        writes=True,
        measured=True,
    ),
    # What only looks like a trouble.
    Case(
        "all of a house's money",
        "SELECT house_id, count(*), sum(reserve) FROM sale.lot GROUP BY house_id",
        (),  # an index with the sums' column is a third of the table, and cheaper: tried
        WELL[:2],
    ),
    Case("a lot by its number", "SELECT * FROM sale.lot WHERE id = 777", (), WELL),
    Case(
        "a thread",
        "SELECT * FROM sale.message WHERE thread = md5('77')::uuid ORDER BY sent_at",
        (),
        WELL,
    ),
    Case(
        "bids of a lot",
        "SELECT * FROM sale.bid WHERE lot_id = 170000",
        (),
        ("selective-full-scan", ":no-index", "sort-without-index"),
    ),
    Case(
        "most sold",
        "SELECT count(*) FROM sale.lot WHERE state = 'sold'",
        (),
        ("selective-full-scan",),
    ),
    Case("houses of a region", "SELECT * FROM sale.house WHERE region = 'north'", (), WELL),
    Case(
        "mail rightly",
        "SELECT id FROM sale.person WHERE lower(email) = 'bidder777@post.example'",
        (),
        WELL,
    ),
    Case(
        "closing next",
        "SELECT id FROM sale.lot WHERE state = 'open' ORDER BY closes LIMIT 10",
        (),
        WELL,
    ),
    Case(
        "a rate",
        "SELECT rate FROM sale.rate WHERE currency = 'DKK' AND day = '2020-02-02'",
        (),
        WELL,
    ),
    Case(
        "a category tree",
        "WITH RECURSIVE t AS (SELECT id FROM sale.category WHERE id = 3 UNION "
        "ALL SELECT c.id FROM sale.category c JOIN t ON c.parent = t.id) SELECT count(*) FROM t",
        (),
        ("selective-full-scan",),
    ),
    Case(
        "everything by month",
        "SELECT date_trunc('month', placed_at), count(*) FROM sale.bid GROUP BY 1",
        (),
        WELL,
    ),
    Case(
        "watched by one",
        "SELECT lot_id FROM sale.watch WHERE person_id = 77 ORDER BY since",
        (),
        WELL,
    ),
]
