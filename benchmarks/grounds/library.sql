-- A lending library: works in editions and copies, loans, holds, fines, gates that count, a web log.
-- Invented, as is all of it.
CREATE SCHEMA lib;
CREATE TABLE lib.branch (id smallint PRIMARY KEY, name text NOT NULL, region text NOT NULL, opening jsonb NOT NULL);
CREATE TABLE lib.author (id int PRIMARY KEY, family text NOT NULL, given text, born int, bio text);
CREATE TABLE lib.work (
    id int PRIMARY KEY, title text NOT NULL, lang char(2) NOT NULL, first_year int, kind text NOT NULL,
    summary text, dewey numeric(7, 3), ratings int[] NOT NULL, entered timestamptz NOT NULL
);
CREATE TABLE lib.work_author (work_id int, author_id int, role text NOT NULL, PRIMARY KEY (work_id, author_id));
CREATE TABLE lib.edition (
    isbn varchar(13) PRIMARY KEY, work_id int NOT NULL REFERENCES lib.work, publisher text NOT NULL, year int,
    pages int, price numeric(8, 2)
);
CREATE TABLE lib.copy (
    id bigint PRIMARY KEY, isbn varchar(13) NOT NULL, branch_id smallint NOT NULL, shelf text NOT NULL,
    state text NOT NULL, barcode text NOT NULL UNIQUE, acquired date NOT NULL, replaced_by bigint
);
CREATE INDEX copy_isbn ON lib.copy (isbn);
CREATE TABLE lib.member (
    id uuid PRIMARY KEY, card bigint NOT NULL, family text NOT NULL, given text NOT NULL, born date, email text,
    joined timestamptz NOT NULL, town text NOT NULL, postcode text NOT NULL, active boolean NOT NULL,
    prefs jsonb NOT NULL, blocked_until timestamptz
);
CREATE TABLE lib.loan (
    id bigint PRIMARY KEY, copy_id bigint NOT NULL, member_id uuid NOT NULL REFERENCES lib.member,
    out_at timestamptz NOT NULL, due date NOT NULL, back_at timestamptz, renewals int NOT NULL
);
CREATE INDEX loan_member ON lib.loan (member_id);
CREATE INDEX loan_open ON lib.loan (due) WHERE back_at IS NULL;
CREATE TABLE lib.hold (
    id int PRIMARY KEY, work_id int NOT NULL, member_id uuid NOT NULL, placed timestamptz NOT NULL,
    ready timestamptz, expires date
);
CREATE INDEX hold_member ON lib.hold (member_id);
CREATE TABLE lib.fine (
    id int PRIMARY KEY, loan_id bigint NOT NULL, cents int NOT NULL, paid_at timestamp, reason text NOT NULL
);
CREATE TABLE lib.visit (branch_id smallint NOT NULL, at timestamptz NOT NULL, gate text NOT NULL, people int NOT NULL);
CREATE INDEX visit_at ON lib.visit USING brin (at);
CREATE TABLE lib.subject (id int PRIMARY KEY, parent int, path text NOT NULL, name text NOT NULL);
CREATE TABLE lib.work_subject (work_id int, subject_id int, PRIMARY KEY (work_id, subject_id));
CREATE TABLE lib.event (
    id int PRIMARY KEY, branch_id smallint NOT NULL, during tsrange NOT NULL, title text NOT NULL, seats int NOT NULL
);
CREATE TABLE lib.signup (event_id int, member_id uuid REFERENCES lib.member, at timestamptz NOT NULL, PRIMARY KEY (event_id, member_id));
CREATE TABLE lib.request (
    id bigint PRIMARY KEY, at timestamptz NOT NULL, who inet NOT NULL, path text NOT NULL, status int NOT NULL,
    ms int NOT NULL, agent text
);
CREATE INDEX request_at ON lib.request (at);
SELECT setseed(0.4);
INSERT INTO lib.branch SELECT n, 'Branch ' || n, (ARRAY['north','south','east'])[1 + n % 3], jsonb_build_object('mon', n % 2 = 0) FROM generate_series(1, 18) n;
INSERT INTO lib.author SELECT n, 'Family ' || n % 20000, 'Given ' || n % 700, 1850 + n % 150, repeat('wrote ', 20) FROM generate_series(1, 50000) n;
INSERT INTO lib.work SELECT n, (ARRAY['The harbour ','A winter ','Letters from ','On the shore '])[1 + n % 4] || n % 30000,
    CASE WHEN n % 600 = 0 THEN 'fy' WHEN n % 5 = 0 THEN 'nl' ELSE 'en' END, 1900 + n % 125, (ARRAY['novel','novel','poems','essay','atlas'])[1 + n % 5],
    'A tale of number ' || n % 9000 || ' and the ' || n % 77 || ' gulls', round((n % 1000 + n % 997 / 1000.0)::numeric, 3),
    ARRAY[1 + n % 5, 1 + n % 4, n % 3], timestamptz '2015-01-01 00:00+00' + n * interval '40 minutes' FROM generate_series(1, 120000) n;
INSERT INTO lib.work_author SELECT n, 1 + (n * 7) % 50000, 'author' FROM generate_series(1, 120000) n;
INSERT INTO lib.work_author SELECT n * 3, 1 + (n * 11 + 5) % 50000, 'illustrator' FROM generate_series(1, 40000) n ON CONFLICT DO NOTHING;
INSERT INTO lib.edition SELECT lpad((9780000000000 + n * 7)::text, 13, '0'), 1 + (n * 13) % 120000, 'Press ' || n % 900, 1950 + n % 75, 80 + n % 700, round((5 + random() * 40)::numeric, 2)
FROM generate_series(1, 180000) n;
INSERT INTO lib.copy SELECT n, lpad((9780000000000 + (1 + n % 180000) * 7)::text, 13, '0'), 1 + n % 18, chr(65 + n % 26) || '-' || n % 400,
    CASE WHEN n % 900 = 0 THEN 'lost' WHEN n % 350 = 0 THEN 'repair' WHEN n % 6 = 0 THEN 'lent' ELSE 'on shelf' END, 'B' || lpad((n * 7)::text, 9, '0'),
    date '2000-01-01' + (n / 40)::int % 9000, CASE WHEN n % 250 = 0 THEN n + 1 END FROM generate_series(1, 300000) n;
INSERT INTO lib.member SELECT md5('m' || n)::uuid, 1000000 + n, 'Family ' || n % 12000, 'Given ' || n % 900, date '1930-01-01' + (n * 17) % 30000,
    CASE WHEN n % 8 > 0 THEN 'M' || n || '@Post.Example' END, timestamptz '2012-01-01 00:00+00' + n * interval '110 minutes', 'Town ' || n % 60, lpad((n % 60)::text, 4, '0') || 'AB',
    n % 12 > 0, jsonb_build_object('lang', CASE WHEN n % 800 = 0 THEN 'fy' ELSE 'en' END, 'mail', n % 2 = 0), CASE WHEN n % 300 = 0 THEN timestamptz '2025-09-01 00:00+00' + n * interval '1 minute' END
FROM generate_series(1, 60000) n;
INSERT INTO lib.loan SELECT n, 1 + (n::bigint * 37) % 300000, md5('m' || 1 + (n * 11) % 60000)::uuid, timestamptz '2023-01-01 00:00+00' + n * interval '2 minutes',
    (timestamptz '2023-01-01 00:00+00' + n * interval '2 minutes')::date + 21, CASE WHEN n % 40 = 0 OR n > 690000 THEN NULL ELSE timestamptz '2023-01-01 00:00+00' + n * interval '2 minutes' + (n % 30) * interval '1 day' END, n % 4
FROM generate_series(1, 700000) n;
INSERT INTO lib.hold SELECT n, 1 + (n * 19) % 120000, md5('m' || 1 + (n * 23) % 60000)::uuid, timestamptz '2025-01-01 00:00+00' + n * interval '5 minutes', CASE WHEN n % 9 = 0 THEN timestamptz '2025-02-01 00:00+00' + n * interval '5 minutes' END, CASE WHEN n % 9 = 0 THEN date '2025-02-10' + n / 300 END
FROM generate_series(1, 90000) n;
INSERT INTO lib.fine SELECT n, n * 7, 50 + n % 900, CASE WHEN n % 70 > 0 THEN timestamp '2023-02-01 00:00' + n * interval '13 minutes' END, (ARRAY['late','late','late','torn','lost'])[1 + n % 5] FROM generate_series(1, 95000) n;
INSERT INTO lib.visit SELECT 1 + n % 18, timestamptz '2024-01-01 00:00+00' + n / 18 * interval '15 minutes', 'gate ' || n % 3, n % 40 FROM generate_series(1, 600000) n;
INSERT INTO lib.subject SELECT n, CASE WHEN n > 9 THEN n / 9 END, CASE WHEN n > 9 THEN n / 81 || '.' || n / 9 || '.' ELSE '' END || n, 'Subject ' || n FROM generate_series(1, 6000) n;
INSERT INTO lib.work_subject SELECT n, 1 + (n * 5) % 6000 FROM generate_series(1, 120000) n;
INSERT INTO lib.work_subject SELECT n, 1 + (n * 7 + 3) % 6000 FROM generate_series(1, 120000) n ON CONFLICT DO NOTHING;
INSERT INTO lib.event SELECT n, 1 + n % 18, tsrange(timestamp '2020-01-01 10:00' + n * interval '70 minutes', timestamp '2020-01-01 12:00' + n * interval '70 minutes'), 'Reading aloud ' || n % 50, 10 + n % 60 FROM generate_series(1, 40000) n;
INSERT INTO lib.signup SELECT 1 + n % 40000, md5('m' || 1 + (n * 31) % 60000)::uuid, timestamptz '2024-01-01 00:00+00' + n * interval '3 minutes' FROM generate_series(1, 150000) n ON CONFLICT DO NOTHING;
INSERT INTO lib.request SELECT n, timestamptz '2025-09-01 00:00+00' + n * interval '3 seconds', ('10.' || n % 40 || '.' || n % 251 || '.' || n % 241)::inet,
    (ARRAY['/item/','/author/','/search?q=','/shelf/'])[1 + n % 4] || n % 40000, CASE WHEN n % 1100 = 0 THEN 500 WHEN n % 30 = 0 THEN 404 ELSE 200 END, CASE WHEN n % 1700 = 0 THEN 6000 + n % 900 ELSE 5 + n % 300 END, 'agent ' || n % 90
FROM generate_series(1, 500000) n;
CREATE VIEW lib.standing AS SELECT m.id, m.card, m.family, m.given,
    (SELECT count(*) FROM lib.loan l WHERE l.member_id = m.id AND l.back_at IS NULL) AS lent,
    (SELECT sum(f.cents) FROM lib.loan l JOIN lib.fine f ON f.loan_id = l.id WHERE l.member_id = m.id AND f.paid_at IS NULL) AS owed
    FROM lib.member m;
CREATE VIEW lib.popular AS SELECT e.work_id, count(*) AS times, max(l.out_at) AS last FROM lib.loan l JOIN lib.copy c ON c.id = l.copy_id JOIN lib.edition e ON e.isbn = c.isbn GROUP BY e.work_id;
ANALYZE;
