"""Bookings of many tenants: statements as an object mapper and its users write them.

They were written, and counted, before the rules were tried on them; the schema is the tenants'.
Names are invented, as is all of the data.
"""

from __future__ import annotations

from benchmarks.grounds.cases import Case

FALSE_HERE = (
    "selective-full-scan", "index-scan-discards-most", ":no-index", "sort-without-index",
)  # fmt: skip
BOOKINGS = [
    Case(
        "events of a tenant latest",
        "SELECT * FROM app.event WHERE tenant_id = app.id(77, 1) ORDER BY at DESC LIMIT 20",
        (
            "top-n-without-index",
            ":no-index",
            ":no-index-in-this-order",
        ),
    ),
    Case(
        "events of an account that failed",
        "SELECT count(*) FROM app.event WHERE account_id = app.id(77, 2) AND payload "
        "->> 'ok' = 'false'",
        (":no-index",),
    ),
    Case(
        "json containment",
        'SELECT id FROM app.event WHERE payload @> \'{"ip": "10.0.7.7"}\'',
        (":no-index",),
    ),
    Case(
        "email as it is",
        "SELECT id FROM app.account WHERE email = 'Person77@Mail.example'",
        (":no-index",),
    ),
    Case(
        "partial not implied",
        "SELECT id FROM app.account WHERE lower(email) = 'person77@mail.example'",
        (":partial-index-misses",),
    ),
    Case(
        "booking by code",
        "SELECT * FROM app.booking WHERE code = 'B777'",
        (":no-index",),
    ),
    Case(
        "booking by second key",
        "SELECT * FROM app.booking WHERE id = app.id(777, 4)",
        ("leading-column-missing",),
    ),
    Case(
        "tags contain",
        "SELECT id FROM app.boat WHERE tags @> ARRAY['tag7']",
        (":no-index",),
    ),
    Case(
        "tag any",
        "SELECT id FROM app.boat WHERE 'tag7' = ANY (tags)",
        (
            ":no-index",
            ":condition-not-searchable",
        ),
    ),
    Case(
        "comments of an author",
        "SELECT id, body FROM app.comment WHERE author_id = app.id(77, 2) ORDER BY "
        "created_at DESC LIMIT 10",
        (
            ":no-index",
            "top-n-without-index",
        ),
    ),
    Case(
        "unpaid",
        "SELECT id, number FROM app.invoice WHERE paid_on IS NULL AND issued_on < '2024-03-01'",
        (":no-index",),
    ),
    Case(
        "invoices of a tenant in a month",
        "SELECT sum(total) FROM app.invoice WHERE tenant_id = app.id(1, 1) AND "
        "issued_on BETWEEN '2024-03-01' AND '2024-03-03'",
        (
            "index-scan-discards-most",
            ":no-index",
        ),
    ),
    Case(
        "join by second key",
        "SELECT b.price FROM app.invoice i JOIN app.booking b ON b.id = i.booking_id "
        "WHERE i.id = 777",
        (
            "leading-column-missing",
            "join-side-without-index",
        ),
    ),
    Case(
        "memberships of an account",
        "SELECT tenant_id, role FROM app.membership WHERE account_id = app.id(77, 2)",
        ("leading-column-missing",),
    ),
    Case(
        "range holds a day",
        "SELECT per_night FROM app.price_rule WHERE during @> date '2024-06-01' AND min_dm = 7",
        (":no-index",),
    ),
    Case(
        "ranges overlap",
        "SELECT id FROM app.price_rule WHERE during && daterange('2024-01-01', '2024-01-03')",
        (":no-index",),
    ),
    Case(
        "polymorphic without its type",
        "SELECT id FROM app.comment WHERE subject_id IN (app.id(7, 2), app.id(8, 2), app.id(9, 3))",
        ("leading-column-missing",),
    ),
    Case(
        "wildcard name",
        "SELECT id FROM app.account WHERE display_name ILIKE '%son 777%'",
        (":leading-wildcard",),
    ),
    Case(
        "json settings",
        "SELECT id FROM app.account WHERE settings ->> 'lang' = 'is' AND (settings "
        "->> 'size')::int = 7",
        (
            ":function-on-column",
            ":no-index",
        ),
    ),
    Case(
        "day of creation",
        "SELECT count(*) FROM app.account WHERE created_at::date = '2023-07-07'",
        (
            ":type-mismatch",
            ":function-on-column",
        ),
    ),
    Case(
        "deep page",
        "SELECT id, kind FROM app.event ORDER BY id OFFSET 300000 LIMIT 20",
        ("deep-paging",),
    ),
    Case(
        "latest of each account",
        "SELECT DISTINCT ON (account_id) account_id, at FROM app.event WHERE "
        "account_id IS NOT NULL ORDER BY account_id, at DESC",
        (
            "sort-without-index",
            "sort-spills",
            ":groups-read-whole",
            "top-n-without-index",
        ),
        measured=True,
    ),
    Case(
        "old jobs",
        "DELETE FROM app.job WHERE done_at < '2025-06-01 12:00'",
        (":no-index",),
        writes=True,
    ),
    Case(
        "text search",
        "SELECT id FROM app.comment WHERE to_tsvector('simple', body) @@ "
        "to_tsquery('simple', 'word777')",
        (
            ":function-on-column",
            ":no-index",
            ":condition-not-searchable",
        ),
    ),
    Case(
        "uuid as text",
        "SELECT name FROM app.boat WHERE id::text = 'c4ca4238-a0b9-2382-0dcc-509a6f75849b'",
        (
            ":type-mismatch",
            ":function-on-column",
        ),
    ),
    Case(
        "uuid begins with",
        "SELECT name FROM app.boat WHERE id::text LIKE 'c4ca%'",
        (
            ":type-mismatch",
            ":function-on-column",
        ),
    ),
    Case(
        "code or boat",
        "SELECT id FROM app.booking WHERE code = 'B77' OR boat_id = app.id(77, 3)",
        (
            ":or-over-columns",
            ":no-index",
        ),
    ),
    Case(
        "view by name",
        "SELECT code, price FROM app.open_booking WHERE tenant_name = 'tenant 277'",
        (
            "join-side-without-index",
            ":no-index",
        ),
    ),
    Case(
        "events per account",
        "SELECT a.id, (SELECT count(*) FROM app.event e WHERE e.account_id = a.id) "
        "FROM app.account a WHERE a.email LIKE 'Person7_@%'",
        (
            "subquery-per-row",
            ":no-index",
        ),
    ),
    Case(
        "last of a kind",
        "SELECT max(at) FROM app.event WHERE kind = 'kind.7' AND tenant_id = app.id(7, 1)",
        (
            ":no-index",
            "wrong-end-of-index",
        ),
    ),
    Case(
        "running sum of a tenant",
        "SELECT id, sum(total) OVER (ORDER BY issued_on) FROM app.invoice WHERE "
        "tenant_id = app.id(277, 1) AND reminded = 3",
        wrong=FALSE_HERE,
    ),
    Case(
        "newest events",
        "SELECT count(*) FROM app.event WHERE at > '2025-06-30 20:00'",
        (":no-index",),
    ),
    Case(
        "cte filtered outside",
        "WITH e AS MATERIALIZED (SELECT account_id, count(*) AS n FROM app.event "
        "GROUP BY 1) SELECT n FROM e WHERE account_id = app.id(77, 2)",
        ("filter-outside-cte",),
    ),
    Case(
        "soft deleted",
        "SELECT id FROM app.boat WHERE deleted_at IS NULL AND owner_id = app.id(77, 2)",
        (":no-index",),
    ),
    Case(
        "exists with or",
        "SELECT t.name FROM app.tenant t WHERE EXISTS (SELECT 1 FROM app.event e "
        "WHERE e.tenant_id = t.id AND (e.kind = 'kind.99' OR e.payload ->> 'ip' = "
        "'x'))",
        (
            ":no-index",
            "subquery-per-row",
            "join-side-without-index",
            ":function-on-column",
            "selective-full-scan",
        ),
    ),
    Case(
        "count distinct",
        "SELECT count(DISTINCT account_id) FROM app.event WHERE tenant_id = app.id(277, 1)",
        (":no-index",),
    ),
    Case(
        "domain compared with text",
        "SELECT id FROM app.invoice WHERE number LIKE '%-7777'",
        (":leading-wildcard",),
    ),
    Case(
        "last update",
        "SELECT id FROM app.booking WHERE tenant_id = app.id(77, 1) ORDER BY "
        "updated_at DESC LIMIT 5",
        (
            "top-n-without-index",
            ":no-index",
            ":no-index-in-this-order",
        ),
    ),
    Case(
        "time since",
        "SELECT count(*) FROM app.booking WHERE updated_at - created_at < interval '3 seconds'",
        (
            ":function-on-column",
            ":no-index",
            ":condition-not-searchable",
        ),
        measured=True,
    ),
    Case(
        "upper mail",
        "SELECT id FROM app.account WHERE upper(email) = 'PERSON77@MAIL.EXAMPLE' AND "
        "deleted_at IS NULL",
        (":function-on-column",),
    ),
    Case(
        "same text case folded",
        "SELECT id FROM app.account WHERE lower(email) LIKE 'person7777%' AND deleted_at IS NULL",
        wrong=FALSE_HERE,
    ),
    Case(
        "next job",
        "SELECT id FROM app.job WHERE queue = 'sync' AND done_at IS NULL ORDER BY run_at LIMIT 1",
        wrong=FALSE_HERE,
    ),
    Case(
        "boat of a view",
        "SELECT code FROM app.open_booking WHERE boat_id = app.id(77, 3)",
        wrong=FALSE_HERE,
    ),
    Case(
        "comments of a boat",
        "SELECT body FROM app.comment WHERE subject_type = 'Boat' AND subject_id = app.id(77, 3)",
        wrong=FALSE_HERE,
    ),
    Case(
        "sum by currency",
        "SELECT currency, sum(total) FROM app.invoice GROUP BY 1",
        wrong=FALSE_HERE,
    ),
    Case(
        "account by mail",
        "SELECT id FROM app.account WHERE lower(email) = 'person77@mail.example' AND "
        "deleted_at IS NULL",
        wrong=FALSE_HERE,
    ),
    Case(
        "boats without a booking",
        "SELECT count(*) FROM app.boat b WHERE NOT EXISTS (SELECT 1 FROM app.booking "
        "k WHERE k.boat_id = b.id)",
        wrong=FALSE_HERE,
    ),
    Case(
        "most invoices",
        "SELECT count(*) FROM app.invoice WHERE paid_on IS NOT NULL",
        # One built on it makes the whole a ninth cheaper: that it says so is no mistake.
        wrong=("selective-full-scan",),
    ),
    Case(
        "a month of bookings",
        "SELECT sum(price) FROM app.booking WHERE arrives >= '2024-05-01' AND arrives"
        " < '2024-06-01'",
        wrong=FALSE_HERE,
    ),
    Case(
        "first events",
        "SELECT id, kind FROM app.event ORDER BY id LIMIT 20",
        wrong=FALSE_HERE,
    ),
]
