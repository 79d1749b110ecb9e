"""Bicycles for hire: domains, trees of zones, networks, parts within parts, inherited tables.

Statements were written, and counted, before the rules were tried on them. Names are invented.
"""

from __future__ import annotations

from benchmarks.grounds.cases import Case

WELL = (
    "selective-full-scan", "index-scan-discards-most", ":no-index", "sort-without-index",
    "top-n-without-index", "join-side-without-index",
)  # fmt: skip
BIKES = [
    Case(
        "stands below a district",
        "SELECT s.id, s.name FROM hire.station s JOIN hire.zone z ON z.id = s.zone_id WHERE "
        "z.way <@ 'city.d7' AND s.town = 'Elm'",
        (":no-index", "join-side-without-index"),
    ),
    Case(
        "a zone by a pattern of its way",
        "SELECT id FROM hire.zone WHERE way::text LIKE 'city.d7.%'",
        (),
        WELL[:1],
    ),
    Case(
        "a bicycle with a tyre",
        "SELECT id, plate FROM hire.bike WHERE gear @> 'tyre=>T77'",
        (":no-index",),
    ),
    Case(
        "a bicycle's lock by its key",
        "SELECT id, plate FROM hire.bike WHERE gear -> 'tyre' = 'T77'",
        (":no-index", ":expression-on-column", ":function-on-column"),
    ),
    Case(
        "plate in small letters",
        "SELECT id FROM hire.bike WHERE lower(plate) = 'ab-777'",
        (":function-on-column", ":case-insensitive-match"),
    ),
    Case(
        "plate that begins with",
        "SELECT id, model FROM hire.bike WHERE plate LIKE 'AB-777%'",
        (),
        WELL,
    ),
    Case(
        "plate by a regular expression",
        "SELECT id FROM hire.bike WHERE plate ~ '^AB-7777'",
        (),
        WELL,
    ),
    Case(
        "what stands at a stand, scrapped too",
        "SELECT id FROM hire.bike WHERE station_id = 77",
        (":partial-index-misses",),
    ),
    Case(
        "bits of a trait",
        "SELECT id FROM hire.bike WHERE traits & B'11111110' = B'11111110' AND model = 'Model 7'",
        (":no-index", ":function-on-column", ":arithmetic-on-column"),
    ),
    Case(
        "mail of a member, as text",
        "SELECT id FROM hire.member WHERE mail::text = 'Rider777@hire.example'",
        (":cast-on-column", ":type-mismatch", ":function-on-column"),
    ),
    Case(
        "number of a member, as text",
        "SELECT id FROM hire.member WHERE number::text = 'N00000777'",
        (":cast-on-column", ":type-mismatch", ":function-on-column"),
    ),
    Case(
        "number of a member, put together",
        "SELECT id FROM hire.member WHERE number || '' = 'N00000777'",
        (":function-on-column", ":expression-on-column", ":condition-not-searchable"),
    ),
    Case(
        "full name",
        "SELECT id FROM hire.member WHERE first || ' ' || last = 'Ada Rider777'",
        (":expression-on-column", ":function-on-column", ":no-index"),
    ),
    Case(
        "members by first name alone",
        "SELECT id, last FROM hire.member WHERE first = 'Ada' AND phone = '06-00062777'",
        (":no-index", ":not-the-leading-column"),
    ),
    Case(
        "a phone's last digits",
        "SELECT id FROM hire.member WHERE right(phone, 4) = '4321'",
        (":function-on-column",),
    ),
    Case(
        "who was invited by",
        "SELECT id, mail FROM hire.member WHERE invited_by = md5('m777')::uuid",
        (":no-index",),
    ),
    Case(
        "the rare plan, latest first",
        "SELECT id, mail FROM hire.member WHERE plan_id = 9 ORDER BY since DESC LIMIT 10",
        (":no-index", "top-n-without-index"),
    ),
    Case(
        "age by arithmetic",
        "SELECT count(*) FROM hire.member WHERE age(date '2026-01-01', born) > interval '75 "
        "years 6 months'",
        (":function-on-column",),
    ),
    Case(
        "years by subtraction",
        "SELECT count(*) FROM hire.member WHERE date '2026-01-01' - born > 27700",
        (":arithmetic-on-column", ":expression-on-column", ":no-index", ":function-on-column"),
    ),
    Case(
        "rides of a member",
        "SELECT * FROM hire.ride WHERE member_id = md5('m140001')::uuid ORDER BY began DESC "
        "LIMIT 20",
        (":no-index", "top-n-without-index"),
    ),
    Case(
        "rides of a member in a town",
        "SELECT count(*) FROM hire.ride WHERE member_id = md5('m140001')::uuid AND town = 'Elm'",
        (":no-index",),
    ),
    Case(
        "town in small letters",
        "SELECT count(*) FROM hire.ride WHERE lower(town) = 'elm'",
        ("partitions-not-pruned", ":function-on-column", ":case-insensitive-match"),
    ),
    Case(
        "rides unpaid",
        "SELECT id, member_id FROM hire.ride WHERE NOT paid AND cost > 9.9",
        (":no-index",),
    ),
    Case(
        "rides without an end",
        "SELECT * FROM hire.current WHERE model = 'Model 7'",
        (":no-index",),
    ),
    Case(
        "long rides",
        "SELECT id FROM hire.ride WHERE hire.minutes(took) > 57.99",
        (":function-on-column", ":no-index"),
    ),
    Case(
        "long rides, from its two times",
        "SELECT id FROM hire.ride WHERE ended - began > interval '57 minutes 59 seconds'",
        (":no-index", ":expression-on-column", ":arithmetic-on-column", ":function-on-column"),
    ),
    Case(
        "a day's rides through a cast",
        "SELECT count(*) FROM hire.ride WHERE began::date = date '2025-05-05'",
        (":cast-on-column", ":type-mismatch", ":function-on-column"),
    ),
    Case(
        "a year's first weeks",
        "SELECT count(*) FROM hire.ride WHERE extract(week FROM began) = 2",
        (":function-on-column", ":date-part"),
    ),
    Case(
        "between in text",
        "SELECT count(*) FROM hire.ride WHERE to_char(began, 'YYYYMMDD') BETWEEN '20250505' "
        "AND '20250506'",
        (":function-on-column",),
    ),
    Case(
        "the last ride of each bike of a model",
        "SELECT b.id, x.began FROM hire.bike b CROSS JOIN LATERAL (SELECT r.began FROM "
        "hire.ride r WHERE r.bike_id = b.id ORDER BY r.began DESC LIMIT 1) x WHERE b.model = "
        "'Model 7' AND b.bought = '2019-03-18'",
        (":no-index",),
    ),
    Case(
        "members with their last ride by function",
        "SELECT id, hire.latest(id) FROM hire.member WHERE last = 'Rider777'",
        (),
    ),
    Case(
        "stands nobody goes to",
        "SELECT s.id FROM hire.station s WHERE NOT EXISTS (SELECT 1 FROM hire.ride r WHERE "
        "r.to_id = s.id) AND s.town = 'Elm' AND s.docks = 9",
        (":no-index", "join-side-without-index"),
    ),
    Case(
        "a stand's rides, out and in",
        "SELECT count(*) FROM hire.ride WHERE from_id = 77 OR to_id = 77",
        (":or-over-columns",),
    ),
    Case(
        "disputed",
        "SELECT * FROM hire.invoice WHERE state = 'disputed' ORDER BY due",
        (":no-index", ":partial-index-misses", "sort-without-index"),
    ),
    Case(
        "open ones of a month",
        "SELECT id, total FROM hire.invoice WHERE state = 'open' AND month = '2025-03-01' AND"
        " total > 75",
        (":no-index", "index-scan-discards-most", ":condition-not-in-index"),
    ),
    Case(
        "reminders",
        "SELECT id FROM hire.invoice WHERE reminders >= 4",
        (":no-index",),
    ),
    Case(
        "due in March, as text",
        "SELECT count(*) FROM hire.invoice WHERE due::text LIKE '2025-03-0%'",
        (":cast-on-column", ":function-on-column", ":type-mismatch", ":condition-not-searchable"),
    ),
    Case(
        "owing, through a view with a barrier",
        "SELECT * FROM hire.owing WHERE mail = 'rider777@hire.example'",
        (),
    ),
    Case(
        "owing a lot",
        "SELECT count(*) FROM hire.owing WHERE total > 79",
        (":no-index", ":negation", "filter-outside-subquery"),
    ),
    Case(
        "line of a ride",
        "SELECT l.amount, i.month FROM hire.line l JOIN hire.invoice i ON i.id = l.invoice_id"
        " WHERE l.ride_id = 77777",
        (":no-index",),
    ),
    Case(
        "lines by words",
        "SELECT invoice_id FROM hire.line WHERE words ILIKE 'ride 7777 %'",
        (
            ":case-insensitive-match",
            ":leading-wildcard",
            ":no-index",
            ":condition-not-searchable",
            ":sort-order-mismatch",
        ),
    ),
    Case(
        "lines that say",
        "SELECT count(*) FROM hire.line WHERE position('7777' in words) > 0",
        (":function-on-column", ":leading-wildcard", ":condition-not-searchable"),
    ),
    Case(
        "invoices with totals of their lines",
        "SELECT i.id, i.total, (SELECT sum(l.amount) FROM hire.line l WHERE l.ride_id = i.id)"
        " FROM hire.invoice i WHERE i.member_id = md5('m14')::uuid",
        ("subquery-per-row", ":no-index"),
    ),
    Case(
        "pings of a network",
        "SELECT * FROM hire.ping WHERE host <<= inet '10.7.7.0/24'",
        (":no-index",),
    ),
    Case(
        "pings of a host",
        "SELECT count(*) FROM hire.ping WHERE host = '10.7.49.7'",
        (":no-index",),
    ),
    Case(
        "pings lost",
        "SELECT bike_id FROM hire.ping WHERE (payload ->> 'lost')::boolean",
        (":no-index", ":function-on-column", ":expression-on-column", ":cast-on-column"),
    ),
    Case(
        "pings by charge",
        "SELECT bike_id FROM hire.ping WHERE (payload ->> 'c')::int = 3999",
        (":no-index", ":function-on-column", ":expression-on-column", ":cast-on-column"),
    ),
    Case(
        "weakest batteries",
        "SELECT bike_id, volt FROM hire.ping ORDER BY volt LIMIT 10",
        ("top-n-without-index",),
    ),
    Case(
        "events of a day, all kinds",
        "SELECT id, kind FROM hire.event WHERE at >= '2025-05-05' AND at < '2025-05-06'",
        (":no-index",),
    ),
    Case(
        "an event of any kind",
        "SELECT * FROM hire.event WHERE id = 300777",
        (":no-index",),
    ),
    Case(
        "damage of a reporter",
        "SELECT * FROM hire.damage WHERE reporter = md5('m777')::uuid",
        (":no-index",),
    ),
    Case(
        "repairs with a part",
        "SELECT id FROM hire.repair WHERE 77 = ANY (parts) AND cost > 80",
        (":no-index", ":condition-not-searchable"),
    ),
    Case(
        "repairs with two parts",
        "SELECT id FROM hire.repair WHERE parts @> ARRAY[77, 7]",
        (":no-index",),
    ),
    Case(
        "latest notes of a tenant",
        "SELECT * FROM hire.note WHERE tenant = 7 ORDER BY made DESC NULLS LAST LIMIT 10",
        ("sort-without-index", "top-n-without-index", ":no-index-in-this-order"),
    ),
    Case(
        "notes about a ride",
        "SELECT * FROM hire.note WHERE about = 'ride 777'",
        (":no-index",),
    ),
    Case(
        "notes of a ride by number",
        "SELECT n.body FROM hire.note n JOIN hire.ride r ON n.about = 'ride ' || r.id WHERE "
        "r.bike_id = 59999",
        (":no-index", "join-side-without-index"),
    ),
    Case(
        "tariff on a day",
        "SELECT plan_id, minute FROM hire.tariff WHERE lower(valid) <= '2025-05-05' AND "
        "upper(valid) > '2025-05-05' AND plan_id = 7",
        (),
        WELL[:1],
    ),
    Case(
        "busiest",
        "SELECT * FROM hire.busy WHERE station_id = 77 ORDER BY day",
        (":no-index", "sort-without-index"),
    ),
    Case(
        "same day's rides of one another",
        "SELECT a.id, b.id FROM hire.damage a JOIN hire.damage b ON b.reporter = a.reporter "
        "AND b.id <> a.id WHERE a.bike_id = 777",
        (":no-index", "join-side-without-index"),
    ),
    Case(
        "who never rode",
        "SELECT count(*) FROM hire.member WHERE id NOT IN (SELECT member_id FROM hire.ride) "
        "AND since > '2025-03-01'",
        (
            ":not-in",
            "subquery-per-row",
            "result-looked-through-again",
            ":result-looked-through-again",
            "full-scan-avoidable",
            ":groups-read-whole",
        ),
    ),
    Case(
        "count to see whether there is one",
        "SELECT m.id FROM hire.member m WHERE (SELECT count(*) FROM hire.damage d WHERE "
        "d.reporter = m.id) > 0 AND m.last = 'Rider777'",
        ("subquery-per-row", ":no-index", ":join-where-a-test-would-do"),
    ),
    Case(
        "distinct over a join",
        "SELECT DISTINCT m.id, m.mail FROM hire.member m JOIN hire.invoice i ON i.member_id ="
        " m.id JOIN hire.line l ON l.invoice_id = i.id WHERE m.plan_id = 9",
        ("distinct-hides-fan-out", ":no-index"),
    ),
    Case(
        "shuffled",
        "SELECT id FROM hire.ride ORDER BY random() LIMIT 5",
        ("random-order", ":order-by-chance"),
    ),
    Case(
        "page 9000",
        "SELECT id, mail FROM hire.member ORDER BY last, first, id LIMIT 20 OFFSET 140000",
        ("deep-paging",),
    ),
    Case(
        "a member goes",
        "DELETE FROM hire.member WHERE id = md5('m149999')::uuid",
        (),
        ("foreign-key-without-index",),
        writes=True,
    ),
    Case(
        "a station goes",
        "UPDATE hire.bike SET station_id = NULL WHERE station_id = 2999 AND model = 'Model 7'",
        (":no-index", ":partial-index-misses"),
        writes=True,
    ),
    Case(
        "overdue, marked",
        "UPDATE hire.invoice SET reminders = reminders + 1 WHERE state = 'disputed' AND due <"
        " '2025-03-01'",
        (":no-index", ":partial-index-misses"),
        writes=True,
    ),
    Case(
        "a bike's rides",
        "SELECT * FROM hire.ride WHERE bike_id = 59000 ORDER BY began DESC LIMIT 5",
        (),
        ("selective-full-scan", ":no-index"),
    ),
    Case(
        "a bike's rides by function",
        "SELECT count(*) FROM hire.rides_of(59000)",
        (),
        WELL,
    ),
    Case(
        "mail, any case",
        "SELECT id FROM hire.member WHERE mail = 'RIDER777@HIRE.EXAMPLE'",
        (),
        WELL,
    ),
    Case(
        "a number, blank-padded",
        "SELECT id FROM hire.member WHERE number = 'N00000777'",
        (),
        WELL,
    ),
    Case(
        "an hour by blocks",
        "SELECT count(*) FROM hire.ride WHERE began >= '2025-05-05 10:00' AND began < "
        "'2025-05-05 11:00' AND town = 'Cedar'",
        (),
        WELL[:1],
    ),
    Case(
        "pings of an hour",
        "SELECT avg(volt) FROM hire.ping WHERE at >= '2025-06-05 10:00+00' AND at < "
        "'2025-06-05 11:00+00'",
        (),
        WELL[:1],
    ),
    Case(
        "pings of a bike",
        "SELECT count(*) FROM hire.ping WHERE bike_id = 777",
        (),
        WELL,
    ),
    Case(
        "open by due",
        "SELECT id FROM hire.invoice WHERE state = 'open' ORDER BY due LIMIT 5",
        (),
        WELL,
    ),
    Case(
        "tariff in force",
        "SELECT minute FROM hire.tariff WHERE plan_id = 7 AND valid @> date '2025-05-05'",
        (),
        WELL,
    ),
    Case(
        "bikes in use at a stand",
        "SELECT id FROM hire.bike WHERE station_id = 76 AND scrapped IS NULL",
        (),
        WELL,
    ),
    Case(
        "money by town",
        "SELECT town, sum(cost) FROM hire.ride GROUP BY town",
        (),
        WELL,
    ),
    Case(
        "most invoices",
        "SELECT count(*) FROM hire.invoice WHERE state = 'paid'",
        (),
        WELL[:1],
    ),
    Case(
        "zones below",
        "SELECT id FROM hire.zone WHERE way <@ 'city.d7.q7'",
        (),
        WELL,
    ),
    Case(
        "stands of Aster",
        "SELECT id FROM hire.station WHERE town = 'Aster'",
        (),
        WELL[:1],
    ),
    Case(
        "members by name",
        "SELECT id FROM hire.member WHERE last = 'Rider777' AND first = 'Ada'",
        (),
        WELL,
    ),
    Case(
        "a tenant's notes",
        "SELECT count(*) FROM hire.note WHERE tenant = 7",
        (),
        WELL,
    ),
    Case(
        "rides per member and town",
        "SELECT member_id, town, count(*) FROM hire.ride GROUP BY GROUPING SETS ((member_id),"
        " (town))",
        (),
        ("selective-full-scan", ":no-index"),
    ),
]
