"""A waterworks: hourly readings in partitions, bills with lines, a net of pipes, a queue of jobs.

Statements were written, and counted, before the rules were tried on them. Names are invented.
"""

from __future__ import annotations

from benchmarks.grounds.cases import Case

WELL = (
    "selective-full-scan", "index-scan-discards-most", ":no-index", "sort-without-index",
    "top-n-without-index", "join-side-without-index",
)  # fmt: skip
WATER = [
    Case(
        "customer by mail",
        "SELECT * FROM water.customer WHERE email = 'c777@mail.example'",
        (":no-index",),
    ),
    Case(
        "customer by code, trimmed",
        "SELECT id FROM water.customer WHERE trim(code) = 'C00000777'",
        (":function-on-column",),
    ),
    Case(
        "customer by code, any case",
        "SELECT id, name FROM water.customer WHERE code ILIKE 'c00000777'",
        (
            ":case-insensitive-match",
            ":sort-order-mismatch",
            ":condition-not-searchable",
        ),
    ),
    Case(
        "customer by a number for a code",
        "SELECT id FROM water.customer WHERE substring(code FROM 2)::int = 777",
        (
            ":function-on-column",
            ":cast-on-column",
            ":expression-on-column",
        ),
    ),
    Case(
        "customer by id as decimal",
        "SELECT name FROM water.customer WHERE id = 777.0",
        (
            ":type-mismatch",
            ":cast-on-column",
        ),
    ),
    Case(
        "customers of a tier",
        "SELECT id FROM water.customer WHERE (settings ->> 'tier')::int = 77",
        (
            ":no-index",
            ":cast-on-column",
            ":expression-on-column",
            ":function-on-column",
        ),
    ),
    Case(
        "customers by settings",
        'SELECT count(*) FROM water.customer WHERE settings @> \'{"tier": 77, "lang": "nl"}\'',
        (":no-index",),
    ),
    Case(
        "customers gone this month",
        "SELECT id FROM water.customer WHERE date_trunc('month', closed_at) = '2025-01-01'",
        (
            ":function-on-column",
            ":no-index",
        ),
    ),
    Case(
        "customers still here, latest",
        "SELECT id, name FROM water.customer WHERE closed_at IS NULL ORDER BY since DESC LIMIT 25",
        (
            "top-n-without-index",
            "sort-without-index",
        ),
    ),
    Case(
        "referred by",
        "SELECT id FROM water.customer WHERE referred_by = 77",
        (":no-index",),
    ),
    Case(
        "customer or their contact",
        "SELECT c.id FROM water.customer c JOIN water.contact k ON k.customer_id = c.id "
        "AND k.kind = 'phone' WHERE c.email = 'c777@mail.example' OR k.value = 'phone777'",
        (
            ":or-over-joined-tables",
            ":or-over-columns",
            ":no-index",
        ),
    ),
    Case(
        "contacts of a customer",
        "SELECT kind, value FROM water.contact WHERE customer_id = 777",
        (
            ":not-the-leading-column",
            ":no-index",
        ),
    ),
    Case(
        "who has this number",
        "SELECT customer_id FROM water.contact WHERE value = 'phone777'",
        (":no-index",),
    ),
    Case(
        "account by street",
        "SELECT id, name, overdue FROM water.account WHERE street = 'Street 77' AND number = 77",
        (
            ":no-index",
            "join-side-without-index",
        ),
    ),
    Case(
        "accounts in arrears",
        "SELECT id, code FROM water.account WHERE overdue > 0 AND postcode = '0077AB'",
        (
            ":no-index",
            "join-side-without-index",
        ),
    ),
    Case(
        "premises by postcode and number",
        "SELECT id FROM water.premises WHERE postcode = '0077AB' AND number = 77",
        (":no-index",),
    ),
    Case(
        "premises by postcode as text",
        "SELECT id FROM water.premises WHERE postcode::text = '0077AB'",
        (
            ":cast-on-column",
            ":type-mismatch",
            ":function-on-column",
            ":no-index",
        ),
    ),
    Case(
        "premises by words",
        "SELECT id, street FROM water.premises WHERE searchable @@ to_tsquery('simple', "
        "'77 & street')",
        (":no-index",),
    ),
    Case(
        "complaints by words",
        "SELECT id FROM water.complaint WHERE to_tsvector('english', body) @@ "
        "plainto_tsquery('english', 'number 77 street 77')",
        (
            ":no-index",
            ":function-on-column",
            ":expression-on-column",
        ),
    ),
    Case(
        "complaints containing",
        "SELECT id FROM water.complaint WHERE body LIKE '%street 777 %'",
        (":leading-wildcard",),
    ),
    Case(
        "complaint by ticket",
        "SELECT id FROM water.complaint WHERE meta ->> 'ticket' = 'T-7777'",
        (
            ":no-index",
            ":expression-on-column",
            ":function-on-column",
        ),
    ),
    Case(
        "complaints with a tag",
        "SELECT id FROM water.complaint WHERE meta -> 'tags' ? 'k77'",
        (
            ":no-index",
            ":expression-on-column",
            ":function-on-column",
            ":condition-not-searchable",
        ),
    ),
    Case(
        "severe and open",
        "SELECT id, opened FROM water.complaint WHERE severity = 5 AND closed IS NULL "
        "ORDER BY opened",
        (
            ":no-index",
            "sort-without-index",
        ),
    ),
    Case(
        "an agent's complaints of a week",
        "SELECT id FROM water.complaint WHERE assigned = 'agent7' AND opened BETWEEN "
        "'2024-01-01' AND '2025-01-01'",
        (
            ":no-index",
            ":condition-not-in-index",
            "index-scan-discards-most",
        ),
    ),
    Case(
        "complaints of a day in local time",
        "SELECT count(*) FROM water.complaint WHERE (opened AT TIME ZONE "
        "'Europe/Amsterdam')::date = '2024-05-05'",
        (
            ":cast-on-column",
            ":function-on-column",
        ),
    ),
    Case(
        "readings of a day, by function",
        "SELECT sum(litres) FROM water.reading WHERE date_trunc('day', at) = '2025-05-05'",
        (
            "partitions-not-pruned",
            ":function-on-column",
        ),
    ),
    Case(
        "bad readings",
        "SELECT meter_id, at FROM water.reading WHERE quality = 3",
        (":no-index",),
    ),
    Case(
        "readings at a moment",
        "SELECT meter_id, litres FROM water.reading WHERE at = '2025-05-05 18:00+00'",
        (
            ":not-the-leading-column",
            ":no-index",
        ),
    ),
    Case(
        "last readings of a district's meters",
        "SELECT m.id, r.at, r.litres FROM water.meter m JOIN water.last_reading r ON "
        "r.meter_id = m.id JOIN water.premises p ON p.id = m.premises_id WHERE p.postcode"
        " = '0077AB'",
        ("filter-outside-subquery", ":groups-read-whole", "full-scan-avoidable", ":no-index"),
    ),
    Case(
        "last two readings by numbering",
        "SELECT * FROM (SELECT r.*, row_number() OVER (PARTITION BY meter_id ORDER BY at "
        "DESC) AS n FROM water.reading r WHERE at >= '2025-07-01') x WHERE n <= 2 AND "
        "meter_id = 77",
        (),
        WELL,
    ),
    Case(
        "latest of every meter by numbering",
        "SELECT meter_id, litres FROM (SELECT meter_id, litres, row_number() OVER "
        "(PARTITION BY meter_id ORDER BY at DESC) AS n FROM water.reading) x WHERE n = 1",
        ("sort-spills", ":groups-read-whole", "full-scan-avoidable", "sort-without-index"),
    ),
    Case(
        "meters never read",
        "SELECT m.id FROM water.meter m WHERE NOT EXISTS (SELECT 1 FROM water.reading r "
        "WHERE r.meter_id = m.id) AND m.model = 'M7' AND m.fitted = '2010-05-05'",
        (":no-index",),
    ),
    Case(
        "meters with a tag",
        "SELECT id FROM water.meter WHERE 'leaky' = ANY (tags) AND 't40' = ANY (tags)",
        (
            ":no-index",
            ":condition-not-searchable",
        ),
    ),
    Case(
        "meter by serial's end",
        "SELECT id FROM water.meter WHERE serial LIKE '%077-7'",
        (":leading-wildcard",),
    ),
    Case(
        "meters removed or huge",
        "SELECT id FROM water.meter WHERE removed = '2024-05-05' OR model = 'M31'",
        (
            ":or-over-columns",
            ":no-index",
        ),
    ),
    Case(
        "meters of a premises",
        "SELECT id FROM water.meter WHERE premises_id = 777 AND removed IS NULL",
        (":no-index",),
    ),
    Case(
        "month's use of a meter",
        "SELECT month, used FROM water.monthly WHERE meter_id = 77 ORDER BY month",
        (
            ":no-index",
            "sort-without-index",
        ),
    ),
    Case(
        "bills not paid, by exclusion",
        "SELECT id FROM water.bill WHERE state NOT IN ('paid', 'sent', 'overdue', 'draft')",
        (
            ":negation",
            ":no-index",
        ),
    ),
    Case(
        "bills written off",
        "SELECT id, gross FROM water.bill WHERE state = 'written off' AND net > 100",
        (":no-index",),
    ),
    Case(
        "bill state as text",
        "SELECT count(*) FROM water.bill WHERE state::text = 'written off'",
        (
            ":cast-on-column",
            ":no-index",
            ":type-mismatch",
        ),
    ),
    Case(
        "bills covering a day",
        "SELECT id FROM water.bill WHERE period @> date '2024-01-15' AND gross > 118",
        (":no-index",),
    ),
    Case(
        "bills that begin",
        "SELECT count(*) FROM water.bill WHERE lower(period) = '2024-04-01' AND state = 'overdue'",
        (
            ":function-on-column",
            ":no-index",
            ":expression-on-column",
        ),
    ),
    Case(
        "sent and due, of any state",
        "SELECT id FROM water.bill WHERE due < '2024-05-03'",
        (
            ":partial-index-misses",
            ":no-index",
        ),
    ),
    Case(
        "dearest bills",
        "SELECT id, gross FROM water.bill ORDER BY gross DESC LIMIT 10",
        ("top-n-without-index",),
    ),
    Case(
        "gross by arithmetic",
        "SELECT id FROM water.bill WHERE net + vat > 119.5",
        (
            ":arithmetic-on-column",
            ":expression-on-column",
            ":no-index",
            ":function-on-column",
        ),
    ),
    Case(
        "lines of a meter",
        "SELECT bill_id, amount FROM water.bill_line WHERE meter_id = 777",
        (":no-index",),
    ),
    Case(
        "bills with their lines' sum",
        "SELECT b.id, (SELECT sum(l.amount) FROM water.bill_line l WHERE l.meter_id = "
        "m.id) FROM water.meter m JOIN water.bill b ON b.id = m.id WHERE m.premises_id = "
        "777",
        (
            "subquery-per-row",
            ":no-index",
        ),
    ),
    Case(
        "payments of a customer",
        "SELECT p.amount FROM water.payment p JOIN water.customer c ON c.code = "
        "p.customer_ref WHERE c.id = 777",
        (
            ":no-index",
            "join-side-without-index",
        ),
    ),
    Case(
        "payments without a bill",
        "SELECT id, amount FROM water.payment WHERE bill_id IS NULL AND method = 'cash'",
        (":no-index",),
    ),
    Case(
        "payments of a bill",
        "SELECT sum(amount) FROM water.payment WHERE bill_id = 7777",
        (":no-index",),
    ),
    Case(
        "cash of a month",
        "SELECT id FROM water.payment WHERE at >= '2024-06-01' AND at < '2024-09-01' AND "
        "method = 'cash' AND amount > 117",
        (
            ":condition-not-in-index",
            ":no-index",
            "index-scan-discards-most",
        ),
    ),
    Case(
        "payment by reference",
        "SELECT id FROM water.payment WHERE coalesce(reference, '') = 'REF7776'",
        (
            ":function-on-column",
            ":expression-on-column",
        ),
    ),
    Case(
        "bills never paid",
        "SELECT b.id FROM water.bill b LEFT JOIN water.payment p ON p.bill_id = b.id "
        "WHERE p.id IS NULL AND b.customer_id = 777",
        (
            ":no-index",
            "join-side-without-index",
        ),
    ),
    Case(
        "paid too little",
        "SELECT b.id FROM water.bill b WHERE b.customer_id = 777 AND b.gross > (SELECT "
        "coalesce(sum(p.amount), 0) FROM water.payment p WHERE p.bill_id = b.id)",
        (
            "subquery-per-row",
            ":no-index",
        ),
    ),
    Case(
        "the next job",
        "SELECT id, kind FROM water.job WHERE state = 'ready' AND run_at <= '2025-01-10' "
        "ORDER BY priority, run_at LIMIT 5 FOR UPDATE SKIP LOCKED",
        (
            ":no-index",
            "top-n-without-index",
        ),
        writes=True,
    ),
    Case(
        "failed jobs again",
        "UPDATE water.job SET state = 'ready', attempts = attempts + 1 WHERE state = "
        "'failed' AND attempts < 3",
        (":no-index",),
        writes=True,
    ),
    Case(
        "history of a row",
        "SELECT at, actor, changes FROM water.audit_trail WHERE table_name = 'bill' AND "
        "row_id = '777' ORDER BY at",
        (
            ":no-index",
            "sort-without-index",
        ),
    ),
    Case(
        "history by number",
        "SELECT at FROM water.audit_trail WHERE row_id::int = 777",
        (
            ":cast-on-column",
            ":no-index",
            ":type-mismatch",
        ),
    ),
    Case(
        "an actor's last changes",
        "SELECT id, at FROM water.audit_trail WHERE actor = 'user7' ORDER BY at DESC LIMIT 20",
        (
            ":no-index-in-this-order",
            "top-n-without-index",
            "sort-without-index",
            ":order-not-in-index",
        ),
    ),
    Case(
        "what field changed",
        "SELECT id FROM water.audit_trail WHERE changes ->> 'old' = '77777'",
        (
            ":no-index",
            ":expression-on-column",
            ":function-on-column",
        ),
    ),
    Case(
        "outages at a moment",
        "SELECT id FROM water.outage WHERE during @> timestamptz '2022-05-05 05:10+00'",
        (":no-index",),
    ),
    Case(
        "outages while complaining",
        "SELECT c.id, o.id FROM water.complaint c JOIN water.customer k ON k.id = "
        "c.customer_id JOIN water.premises p ON p.id = k.premises_id JOIN water.outage o "
        "ON o.district_id = p.district_id AND o.during @> c.opened WHERE c.severity = 5 "
        "AND c.topic = 'leak'",
        (
            ":no-index",
            "join-side-without-index",
        ),
    ),
    Case(
        "below a node",
        "WITH RECURSIVE d AS (SELECT id, to_node FROM water.pipe WHERE from_node = 19000 "
        "UNION SELECT p.id, p.to_node FROM water.pipe p JOIN d ON p.from_node = "
        "d.to_node) SELECT count(*) FROM d",
        (
            ":no-index",
            "join-side-without-index",
        ),
    ),
    Case(
        "pipes of lead at a node",
        "SELECT p.id FROM water.pipe p WHERE p.to_node = 777 OR p.from_node = 777",
        (
            ":or-over-columns",
            ":no-index",
        ),
    ),
    Case(
        "pairs by accident",
        "SELECT count(*) FROM water.node n, water.tariff t WHERE n.kind = 'pump' AND "
        "t.per_m3 > 1.2 AND n.height > 89",
        ("missing-join-condition",),
    ),
    Case(
        "distinct customers in arrears",
        "SELECT DISTINCT c.id, c.name FROM water.customer c JOIN water.bill b ON "
        "b.customer_id = c.id JOIN water.bill_line l ON l.bill_id = b.id WHERE "
        "c.referred_by = 77",
        (
            "distinct-hides-fan-out",
            ":no-index",
        ),
    ),
    Case(
        "page 4000 of bills",
        "SELECT id, issued FROM water.bill ORDER BY issued, id LIMIT 50 OFFSET 200000",
        ("deep-paging",),
    ),
    Case(
        "some premises by chance",
        "SELECT id FROM water.premises ORDER BY random() LIMIT 3",
        (
            "random-order",
            ":order-by-chance",
        ),
    ),
    Case(
        "used more than",
        "SELECT meter_id FROM water.monthly WHERE water.m3(used) > 13.7",
        (
            ":function-on-column",
            ":no-index",
            ":expression-on-column",
        ),
    ),
    Case(
        "a customer goes",
        "DELETE FROM water.premises WHERE id = 60000",
        ("foreign-key-without-index",),
        writes=True,
    ),
    # What is right as it is.
    Case(
        "customer by code",
        "SELECT * FROM water.customer WHERE code = 'C00000777'",
        (),
        WELL,
    ),
    Case(
        "a meter's day",
        "SELECT at, litres FROM water.reading WHERE meter_id = 77 AND at >= '2025-05-05' "
        "AND at < '2025-05-06' ORDER BY at",
        (),
        WELL,
    ),
    Case(
        "a meter's last",
        "SELECT litres FROM water.reading WHERE meter_id = 77 ORDER BY at DESC LIMIT 1",
        (),
        WELL,
    ),
    Case(
        "bills of a customer",
        "SELECT id, gross FROM water.bill WHERE customer_id = 777 ORDER BY issued",
        (),
        WELL,
    ),
    Case(
        "sent and due",
        "SELECT id FROM water.bill WHERE state = 'sent' AND due < '2025-01-01'",
        (),
        WELL,
    ),
    Case(
        "tariff in force",
        "SELECT per_m3 FROM water.tariff WHERE district_id = 7 AND valid @> timestamptz "
        "'2010-05-05 00:00+00'",
        (),
        WELL,
    ),
    Case(
        "use by district",
        "SELECT p.district_id, sum(m.used) FROM water.monthly m JOIN water.meter t ON "
        "t.id = m.meter_id JOIN water.premises p ON p.id = t.premises_id GROUP BY 1",
        (),
        WELL,
    ),
    Case(
        "payments by method",
        "SELECT method, count(*), sum(amount) FROM water.payment GROUP BY method",
        (),
        WELL,
    ),
    Case(
        "lines of a bill",
        "SELECT * FROM water.bill_line WHERE bill_id = 777 ORDER BY nr",
        (),
        WELL,
    ),
    Case(
        "all districts",
        "SELECT * FROM water.district ORDER BY name",
        (),
        WELL,
    ),
    Case(
        "complaints this week",
        "SELECT topic, count(*) FROM water.complaint WHERE opened >= '2025-08-25' GROUP BY topic",
        (),
        WELL,
    ),
    Case(
        "phone of a customer",
        "SELECT value FROM water.contact WHERE kind = 'phone' AND customer_id = 777",
        (),
        WELL,
    ),
    Case(
        "works of a district",
        "SELECT d.works, count(*) FROM water.premises p JOIN water.district d ON d.id = "
        "p.district_id GROUP BY 1",
        (),
        WELL,
    ),
    Case(
        "paid most of the time",
        "SELECT count(*) FROM water.bill WHERE state = 'paid'",
        (),
        WELL,
    ),
    Case(
        "many codes",
        "SELECT id FROM water.customer WHERE code = ANY (ARRAY['C00000001', 'C00000002', "
        "'C00000003'])",
        (),
        WELL,
    ),
]
