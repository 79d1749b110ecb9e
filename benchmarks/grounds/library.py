"""A lending library: works in editions and copies, loans, holds, fines, gates, a web log.

Statements were written, and counted, before the rules were tried on them. Names are invented.
"""

from __future__ import annotations

from benchmarks.grounds.cases import Case

WELL = (
    "selective-full-scan", "index-scan-discards-most", ":no-index", "sort-without-index",
    "top-n-without-index", "join-side-without-index",
)  # fmt: skip
NONE = (":no-index",)
ON_COLUMN = (":function-on-column", ":type-mismatch", ":no-index")
TOP = ("top-n-without-index", "sort-without-index")
LIBRARY = [
    # Members
    Case("card as text", "SELECT * FROM lib.member WHERE card::text = '1000777'", ON_COLUMN),
    Case("card", "SELECT id, family FROM lib.member WHERE card = 1000777", NONE),
    Case(
        "card as decimal", "SELECT id FROM lib.member WHERE card = 1000777.0", (":type-mismatch",)
    ),
    Case(
        "family name in any case",
        "SELECT id FROM lib.member WHERE lower(family) = 'family 77'",
        ON_COLUMN,
    ),
    Case(
        "whole name",
        "SELECT id FROM lib.member WHERE given || ' ' || family = 'Given 77 Family 77'",
        ON_COLUMN,
    ),
    Case(
        "born in a year, of a town",
        "SELECT id FROM lib.member WHERE extract(year FROM born) = 1977 AND town = 'Town 17'",
        ON_COLUMN,
    ),
    Case(
        "birthdays",
        "SELECT given, email FROM lib.member WHERE to_char(born, 'MM-DD') = '04-17'",
        ON_COLUMN,
    ),
    Case(
        "as old as the house",
        "SELECT id FROM lib.member WHERE age(born) > interval '95 years 8 months'",
        ON_COLUMN,
    ),
    Case(
        "mail in any case",
        "SELECT id FROM lib.member WHERE email ILIKE 'm777@post.example'",
        (
            ":case-insensitive-match",
            ":condition-not-searchable",
            ":sort-order-mismatch",
            ":no-index",
        ),
    ),
    Case("mail hashed", "SELECT id FROM lib.member WHERE md5(email) = 'abc'", ON_COLUMN),
    Case(
        "those who read Frisian",
        "SELECT id FROM lib.member WHERE prefs ->> 'lang' = 'fy'",
        ON_COLUMN,
    ),
    Case(
        "those who read Frisian, by containment",
        'SELECT id FROM lib.member WHERE prefs @> \'{"lang": "fy"}\'',
        NONE,
    ),
    Case(
        "blocked now", "SELECT id, email FROM lib.member WHERE blocked_until > '2025-09-20'", NONE
    ),
    Case(
        "name or mail",
        "SELECT id FROM lib.member WHERE family = 'Family 77' OR email = 'M777@Post.Example'",
        (":or-over-columns", ":no-index"),
    ),
    Case(
        "never borrowed, by NOT IN",
        "SELECT count(*) FROM lib.member WHERE id NOT IN (SELECT member_id FROM lib.loan)",
        (
            ":subquery-per-row",
            ":memory-too-small",
            ":answer-not-remembered",
            ":correlated-subquery",
            "constant-subquery-again",
        ),
    ),
    Case(
        "members of a page, by OR",
        "SELECT id, joined FROM lib.member WHERE joined > '2020-01-01' OR (joined = "
        "'2020-01-01' AND id > '00000000-0000-0000-0000-000000000000') ORDER BY joined, id "
        "LIMIT 50",
        TOP,
    ),
    Case(
        "members of a page, by row",
        "SELECT id, joined FROM lib.member WHERE (joined, id) > ('2020-01-01', "
        "'00000000-0000-0000-0000-000000000000') ORDER BY joined, id LIMIT 50",
        TOP,
    ),
    Case(
        "page two thousand",
        "SELECT id, out_at FROM lib.loan ORDER BY id LIMIT 25 OFFSET 400000",
        ("deep-paging",),
    ),
    Case(
        "town and its postcode",
        "SELECT m.id, l.id FROM lib.member m JOIN lib.loan l ON l.member_id = m.id WHERE m.town"
        " = 'Town 17' AND m.postcode = '0017AB' AND l.back_at IS NULL",
        ("row-misestimate", ":correlated-columns", ":no-index"),
        measured=True,
    ),
    Case("standing of a card", "SELECT * FROM lib.standing WHERE card = 1000777", (":no-index",)),
    Case(
        "what a member owes",
        "SELECT sum(f.cents) FROM lib.loan l JOIN lib.fine f ON f.loan_id = l.id WHERE "
        "l.member_id = md5('m777')::uuid AND f.paid_at IS NULL",
        (":no-index", "join-side-without-index"),
    ),
    # Works
    Case(
        "title has words",
        "SELECT id FROM lib.work WHERE title ILIKE '%harbour 777%'",
        (":leading-wildcard", ":condition-not-searchable", ":case-insensitive-match"),
    ),
    Case(
        "title begins",
        "SELECT id FROM lib.work WHERE title LIKE 'The harbour 777%'",
        (":sort-order-mismatch", ":no-index"),
    ),
    Case(
        "title by position",
        "SELECT id FROM lib.work WHERE strpos(title, 'harbour 777') > 0",
        (*ON_COLUMN, ":condition-not-searchable"),
    ),
    Case(
        "works of an author",
        "SELECT w.title FROM lib.work w JOIN lib.work_author a ON a.work_id = w.id WHERE "
        "a.author_id = 777",
        (":not-the-leading-column", ":no-index"),
    ),
    Case(
        "works of a name",
        "SELECT w.title FROM lib.author a JOIN lib.work_author x ON x.author_id = a.id JOIN "
        "lib.work w ON w.id = x.work_id WHERE a.family = 'Family 77' AND a.given = 'Given 77'",
        (":no-index", ":not-the-leading-column"),
    ),
    Case("in a rare language", "SELECT id, title FROM lib.work WHERE lang = 'fy'", NONE),
    Case(
        "in a rare language, as text",
        "SELECT id FROM lib.work WHERE lang::text = 'fy'",
        (*ON_COLUMN, ":type-mismatch"),
    ),
    Case("rated three times five", "SELECT id FROM lib.work WHERE ratings = ARRAY[5, 4, 2]", NONE),
    Case(
        "by decimal class",
        "SELECT id, title FROM lib.work WHERE dewey BETWEEN 770.5 AND 771 ORDER BY dewey",
        NONE,
    ),
    Case("entered lately", "SELECT id, title FROM lib.work ORDER BY entered DESC LIMIT 20", TOP),
    Case(
        "entered lately, of a kind",
        "SELECT id, title FROM lib.work WHERE kind = 'atlas' ORDER BY entered DESC LIMIT 20",
        TOP,
    ),
    Case(
        "summary in words",
        "SELECT id FROM lib.work WHERE to_tsvector('english', summary) @@ to_tsquery('english',"
        " 'gulls & 7777')",
        (*ON_COLUMN,),
    ),
    Case("editions of a work", "SELECT isbn, year FROM lib.edition WHERE work_id = 777", NONE),
    Case(
        "isbn as a number",
        "SELECT * FROM lib.edition WHERE isbn::bigint = 9780000000777",
        ON_COLUMN,
    ),
    Case(
        "isbn without hyphens",
        "SELECT * FROM lib.edition WHERE replace(isbn, '-', '') = '9780000000777'",
        ON_COLUMN,
    ),
    Case(
        "dearest editions of a press",
        "SELECT isbn, price FROM lib.edition WHERE publisher = 'Press 77' ORDER BY price DESC "
        "LIMIT 5",
        (":no-index", *TOP),
    ),
    Case(
        "subjects below",
        "WITH RECURSIVE below AS (SELECT id FROM lib.subject WHERE id = 7 UNION ALL SELECT s.id"
        " FROM lib.subject s JOIN below b ON s.parent = b.id) SELECT count(*) FROM "
        "lib.work_subject x JOIN below b ON x.subject_id = b.id",
        (":not-the-leading-column", ":no-index", "join-side-without-index"),
    ),
    Case(
        "works of two subjects",
        "SELECT work_id FROM lib.work_subject WHERE subject_id = 77 INTERSECT SELECT work_id "
        "FROM lib.work_subject WHERE subject_id = 108",
        (":not-the-leading-column", ":no-index"),
    ),
    Case(
        "a join that is not there",
        "SELECT w.title, e.isbn FROM lib.work w, lib.edition e, lib.work_author a WHERE "
        "a.work_id = w.id AND w.id BETWEEN 70 AND 90 AND e.year = 1977",
        ("missing-join-condition",),
    ),
    # Copies and loans
    Case(
        "copies of a work at a branch",
        "SELECT c.barcode, c.state FROM lib.copy c JOIN lib.edition e ON e.isbn = c.isbn WHERE "
        "e.work_id = 777 AND c.branch_id = 7",
        NONE,
    ),
    Case(
        "barcode begins", "SELECT id FROM lib.copy WHERE left(barcode, 8) = 'B0000077'", ON_COLUMN
    ),
    Case(
        "barcode in any case",
        "SELECT id FROM lib.copy WHERE upper(barcode) = 'B000000777'",
        ON_COLUMN,
    ),
    Case(
        "whatever is not to be had",
        "SELECT id, barcode FROM lib.copy WHERE state NOT IN ('on shelf', 'lent', 'repair')",
        (":no-index", ":condition-not-searchable", ":negation"),
    ),
    Case("lost", "SELECT id, barcode FROM lib.copy WHERE state = 'lost'", NONE),
    Case("what a copy replaced", "SELECT id FROM lib.copy WHERE replaced_by = 751", NONE),
    Case(
        "replaced by one that is lost",
        "SELECT o.id FROM lib.copy o JOIN lib.copy n ON n.id = o.replaced_by WHERE n.state = "
        "'lost'",
        (":no-index", "join-side-without-index"),
    ),
    Case(
        "who has it",
        "SELECT member_id FROM lib.loan WHERE copy_id = 777 AND back_at IS NULL",
        (":no-index", ":condition-not-in-index"),
    ),
    Case(
        "lent on a day",
        "SELECT count(*) FROM lib.loan WHERE out_at::date = '2025-03-03'",
        ON_COLUMN,
    ),
    Case(
        "lent in a month, as text",
        "SELECT count(*) FROM lib.loan WHERE to_char(out_at, 'YYYY-MM') = '2025-03'",
        ON_COLUMN,
    ),
    Case(
        "due in a month, as text",
        "SELECT count(*) FROM lib.loan WHERE due::text LIKE '2025-03-1%'",
        (*ON_COLUMN, ":type-mismatch", ":condition-not-searchable"),
    ),
    Case(
        "lent within a week",
        "SELECT id FROM lib.loan WHERE out_at + interval '7 days' > '2025-08-30 00:00+00'",
        ON_COLUMN,
    ),
    Case(
        "back or not yet",
        "SELECT id FROM lib.loan WHERE coalesce(back_at, 'infinity') > '2025-10-20'",
        ON_COLUMN,
    ),
    Case("the last ones lent", "SELECT * FROM lib.loan ORDER BY out_at DESC LIMIT 20", TOP),
    Case(
        "ever lent",
        "SELECT c.id FROM lib.copy c WHERE c.branch_id = 7 AND c.state = 'lost' AND (SELECT "
        "count(*) FROM lib.loan l WHERE l.copy_id = c.id) > 0",
        (":no-index", ":subquery-per-row", ":correlated-subquery"),
    ),
    Case(
        "last loan of lost copies",
        "SELECT DISTINCT ON (l.copy_id) l.copy_id, l.member_id, l.out_at FROM lib.loan l JOIN "
        "lib.copy c ON c.id = l.copy_id WHERE c.state = 'lost' ORDER BY l.copy_id, l.out_at "
        "DESC",
        (":no-index", "join-side-without-index"),
    ),
    Case(
        "last loan of each member of a town",
        "SELECT * FROM (SELECT l.*, row_number() OVER (PARTITION BY l.member_id ORDER BY "
        "l.out_at DESC) AS r FROM lib.loan l) x JOIN lib.member m ON m.id = x.member_id WHERE "
        "x.r = 1 AND m.card = 1000777",
        (":no-index", "filter-outside-subquery", "window-before-join", ":groups-read-whole"),
    ),
    Case(
        "times a work was lent",
        "SELECT times FROM lib.popular WHERE work_id = 777",
        (":no-index", "join-side-without-index"),
    ),
    Case(
        "lent by those of a town, each once",
        "SELECT DISTINCT m.card FROM lib.member m JOIN lib.loan l ON l.member_id = m.id WHERE "
        "l.out_at >= '2025-08-20' AND m.town = 'Town 17'",
        NONE,
    ),
    Case("fines of a loan", "SELECT * FROM lib.fine WHERE loan_id = 777", NONE),
    Case("unpaid", "SELECT id, cents FROM lib.fine WHERE paid_at IS NULL", NONE),
    Case(
        "paid at a local time",
        "SELECT id FROM lib.fine WHERE paid_at AT TIME ZONE 'UTC' >= '2025-06-20' AND paid_at "
        "IS NOT NULL",
        ON_COLUMN,
    ),
    Case(
        "all or nothing, by two",
        "SELECT id FROM lib.loan WHERE copy_id = 777 UNION SELECT l.id FROM lib.loan l JOIN "
        "lib.fine f ON f.loan_id = l.id WHERE f.reason = 'lost' AND f.cents > 945",
        NONE,
    ),
    Case(
        "fined or late",
        "SELECT l.id FROM lib.loan l LEFT JOIN lib.fine f ON f.loan_id = l.id WHERE l.copy_id ="
        " 777 OR f.cents = 777",
        (":or-over-joined-tables", ":no-index", ":or-over-columns"),
    ),
    # Holds, events, visits, requests
    Case(
        "who waits for a work",
        "SELECT member_id FROM lib.hold WHERE work_id = 777 ORDER BY placed LIMIT 1",
        (":no-index", *TOP),
    ),
    Case("expired holds", "SELECT id FROM lib.hold WHERE expires < '2025-02-20'", NONE),
    Case(
        "on at a moment",
        "SELECT id, title FROM lib.event WHERE during @> timestamp '2024-03-03 11:00'",
        NONE,
    ),
    Case(
        "on within a day",
        "SELECT id FROM lib.event WHERE during && tsrange('2024-03-03', '2024-03-04') AND "
        "branch_id = 7",
        NONE,
    ),
    Case(
        "begins on a day",
        "SELECT id FROM lib.event WHERE lower(during)::date = '2024-03-03'",
        ON_COLUMN,
    ),
    Case(
        "where a member goes",
        "SELECT event_id FROM lib.signup WHERE member_id = md5('m777')::uuid",
        (":not-the-leading-column", ":no-index"),
    ),
    Case(
        "free seats",
        "SELECT e.id, e.seats - (SELECT count(*) FROM lib.signup s WHERE s.event_id = e.id) AS "
        "free FROM lib.event e WHERE e.branch_id = 7 AND upper(e.during) > '2025-04-20'",
        ON_COLUMN,
    ),
    Case(
        "visits in an hour",
        "SELECT sum(people) FROM lib.visit WHERE date_trunc('hour', at) = '2024-06-03 10:00+00'",
        ON_COLUMN,
    ),
    Case(
        "last count of a gate",
        "SELECT at, people FROM lib.visit WHERE branch_id = 7 AND gate = 'gate 0' ORDER BY at "
        "DESC LIMIT 1",
        (*TOP, ":no-index"),
    ),
    Case("from an address", "SELECT at, path FROM lib.request WHERE who = '10.7.77.77'", NONE),
    Case("from a net", "SELECT count(*) FROM lib.request WHERE who << '10.7.77.0/24'", NONE),
    Case(
        "from an address as text",
        "SELECT at FROM lib.request WHERE host(who) = '10.7.77.77'",
        ON_COLUMN,
    ),
    Case("slow ones", "SELECT at, path, ms FROM lib.request WHERE ms > 6800", NONE),
    Case("slowest ones", "SELECT at, path, ms FROM lib.request ORDER BY ms DESC LIMIT 10", TOP),
    Case(
        "failed ones of a path",
        "SELECT at FROM lib.request WHERE status = 500 AND path LIKE '/item/%'",
        NONE,
    ),
    Case("of an item", "SELECT count(*) FROM lib.request WHERE path = '/item/7776'", NONE),
    Case(
        "a member goes",
        "DELETE FROM lib.member WHERE id = md5('m777')::uuid",
        (
            ":refers-without-index",
            ":references-without-index",
            "foreign-key-without-index",
            ":no-index",
        ),
        writes=True,
    ),
    Case(
        "found again",
        "UPDATE lib.copy SET state = 'on shelf' WHERE lower(barcode) = 'b000006300'",
        ON_COLUMN,
        writes=True,
    ),
    # What is well
    Case("a member by id", "SELECT * FROM lib.member WHERE id = md5('m777')::uuid", (), WELL),
    Case(
        "loans of a member",
        "SELECT * FROM lib.loan WHERE member_id = md5('m777')::uuid ORDER BY out_at DESC LIMIT 10",
        (),
        WELL,
    ),
    Case(
        "late today",
        "SELECT id, member_id FROM lib.loan WHERE back_at IS NULL AND due = '2025-03-03'",
        (),
        WELL,
    ),
    Case("copies of an edition", "SELECT * FROM lib.copy WHERE isbn = '9780000000777'", (), WELL),
    # An index that holds this alone would be a third cheaper, which may be said.
    Case(
        "all active", "SELECT count(*) FROM lib.member WHERE active", (), ("selective-full-scan",)
    ),
    Case("by kind", "SELECT kind, count(*) FROM lib.work GROUP BY kind", (), WELL),
    Case(
        "loans by month",
        "SELECT date_trunc('month', out_at), count(*) FROM lib.loan GROUP BY 1",
        (),
        WELL,
    ),
    Case(
        "people by branch",
        "SELECT b.name, sum(v.people) FROM lib.visit v JOIN lib.branch b ON b.id = v.branch_id "
        "GROUP BY 1",
        (),
        WELL,
    ),
    Case(
        "visits of a day",
        "SELECT sum(people) FROM lib.visit WHERE at >= '2024-06-03' AND at < '2024-06-04'",
        (),
        WELL,
    ),
    Case(
        "requests of an hour",
        "SELECT status, count(*) FROM lib.request WHERE at >= '2025-09-09 10:00+00' AND at < "
        "'2025-09-09 11:00+00' GROUP BY status",
        (),
        WELL,
    ),
    Case(
        "subjects of a work",
        "SELECT s.name FROM lib.work_subject x JOIN lib.subject s ON s.id = x.subject_id WHERE "
        "x.work_id = 777",
        (),
        WELL,
    ),
    Case(
        "all branches",
        "SELECT * FROM lib.branch WHERE opening ->> 'mon' = 'true' ORDER BY name",
        (),
        WELL,
    ),
    Case("most are on the shelf", "SELECT count(*) FROM lib.copy WHERE state <> 'lost'", (), WELL),
    Case(
        "holds of a member",
        "SELECT h.id, w.title FROM lib.hold h JOIN lib.work w ON w.id = h.work_id WHERE "
        "h.member_id = md5('m777')::uuid",
        (),
        WELL,
    ),
    Case(
        "every loan with its member",
        "SELECT l.id, m.card FROM lib.loan l JOIN lib.member m ON m.id = l.member_id",
        (),
        WELL,
    ),
    Case(
        "average length of loans",
        "SELECT avg(back_at - out_at) FROM lib.loan WHERE back_at IS NOT NULL",
        (),
        WELL,
    ),
    Case("barcode by a pattern", "SELECT id FROM lib.copy WHERE barcode ~ '^B00000777'", (), WELL),
    Case(
        "one of many", "SELECT title FROM lib.work WHERE id IN (7, 77, 777, 7777, 77777)", (), WELL
    ),
    Case(
        "any loan at all of a member",
        "SELECT EXISTS (SELECT FROM lib.loan WHERE member_id = md5('m777')::uuid)",
        (),
        WELL,
    ),
]
