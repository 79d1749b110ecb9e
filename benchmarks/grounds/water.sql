-- A waterworks: meters read by the hour, bills in lines, a net of pipes, complaints in words, a queue
-- of jobs. Invented, as is all of it.
CREATE SCHEMA water;
CREATE EXTENSION IF NOT EXISTS btree_gist;
CREATE TYPE water.state AS ENUM ('draft', 'sent', 'paid', 'overdue', 'written off');
CREATE TABLE water.district (id smallint PRIMARY KEY, name varchar(40) NOT NULL, works text NOT NULL);
CREATE TABLE water.premises (
    id int PRIMARY KEY, district_id smallint NOT NULL REFERENCES water.district, street text NOT NULL,
    number int NOT NULL, suffix varchar(4), postcode char(6) NOT NULL, kind text NOT NULL,
    built int, searchable tsvector
);
CREATE TABLE water.customer (
    id bigint PRIMARY KEY, code varchar(12) NOT NULL UNIQUE, name text NOT NULL, email text,
    premises_id int NOT NULL REFERENCES water.premises, since timestamptz NOT NULL, balance numeric(12, 2) NOT NULL,
    settings jsonb NOT NULL DEFAULT '{}', referred_by bigint, closed_at timestamptz
);
CREATE TABLE water.meter (
    id int PRIMARY KEY, serial text NOT NULL, premises_id int NOT NULL, model text NOT NULL,
    fitted date NOT NULL, removed date, size_mm smallint NOT NULL, tags text[] NOT NULL DEFAULT '{}',
    UNIQUE (serial)
);
CREATE TABLE water.reading (
    meter_id int NOT NULL, at timestamptz NOT NULL, litres bigint NOT NULL, pressure real,
    quality smallint NOT NULL, raw text, PRIMARY KEY (meter_id, at)
) PARTITION BY RANGE (at);
CREATE TABLE water.reading_q1 PARTITION OF water.reading FOR VALUES FROM ('2025-01-01 00:00+00') TO ('2025-04-01 00:00+00');
CREATE TABLE water.reading_q2 PARTITION OF water.reading FOR VALUES FROM ('2025-04-01 00:00+00') TO ('2025-07-01 00:00+00');
CREATE TABLE water.reading_q3 PARTITION OF water.reading FOR VALUES FROM ('2025-07-01 00:00+00') TO ('2025-10-01 00:00+00');
CREATE TABLE water.bill (
    id bigint PRIMARY KEY, customer_id bigint NOT NULL REFERENCES water.customer, period daterange NOT NULL,
    state water.state NOT NULL, issued date, due date, net numeric(10, 2) NOT NULL,
    vat numeric(10, 2) NOT NULL, gross numeric(10, 2) GENERATED ALWAYS AS (net + vat) STORED
);
CREATE INDEX bill_customer ON water.bill (customer_id);
CREATE INDEX bill_open ON water.bill (due) WHERE state = 'sent';
CREATE TABLE water.bill_line (
    bill_id bigint NOT NULL REFERENCES water.bill ON DELETE CASCADE, nr smallint NOT NULL, meter_id int,
    what text NOT NULL, litres bigint, amount numeric(10, 2) NOT NULL, PRIMARY KEY (bill_id, nr)
);
CREATE TABLE water.payment (
    id bigint PRIMARY KEY, bill_id bigint, customer_ref text NOT NULL, amount numeric(10, 2) NOT NULL,
    at timestamp NOT NULL, method text NOT NULL, reference text
);
CREATE INDEX payment_at ON water.payment (at);
CREATE TABLE water.node (id int PRIMARY KEY, kind text NOT NULL, district_id smallint NOT NULL, height real);
CREATE TABLE water.pipe (
    id int PRIMARY KEY, from_node int NOT NULL, to_node int NOT NULL, laid int NOT NULL,
    bore_mm int NOT NULL, metres real NOT NULL, material text NOT NULL
);
CREATE TABLE water.complaint (
    id int PRIMARY KEY, customer_id bigint NOT NULL, opened timestamptz NOT NULL, closed timestamptz,
    topic text NOT NULL, body text NOT NULL, severity int NOT NULL, assigned text, meta jsonb NOT NULL
);
CREATE INDEX complaint_opened ON water.complaint (opened);
CREATE TABLE water.job (
    id bigint PRIMARY KEY, kind text NOT NULL, payload jsonb NOT NULL, run_at timestamptz NOT NULL,
    state text NOT NULL, attempts int NOT NULL DEFAULT 0, locked_by text, priority int NOT NULL
);
CREATE TABLE water.tariff (
    id int PRIMARY KEY, district_id smallint NOT NULL, valid tstzrange NOT NULL, per_m3 numeric(8, 4) NOT NULL,
    EXCLUDE USING gist (district_id WITH =, valid WITH &&)
);
CREATE TABLE water.outage (
    id int PRIMARY KEY, district_id smallint NOT NULL, during tstzrange NOT NULL, cause text NOT NULL
);
CREATE TABLE water.audit_trail (
    id bigint PRIMARY KEY, table_name text NOT NULL, row_id text NOT NULL, at timestamptz NOT NULL,
    actor text NOT NULL, changes jsonb NOT NULL
);
CREATE INDEX audit_actor ON water.audit_trail (actor);
CREATE TABLE water.contact (
    customer_id bigint NOT NULL, kind text NOT NULL, value text NOT NULL, preferred boolean NOT NULL,
    PRIMARY KEY (kind, customer_id)
);
SELECT setseed(0.25);
INSERT INTO water.district SELECT n, 'District ' || n, (ARRAY['East','West','Hill'])[1 + n % 3] FROM generate_series(1, 24) n;
INSERT INTO water.premises SELECT n, 1 + n % 24, 'Street ' || n % 900, n % 180, CASE WHEN n % 11 = 0 THEN 'a' END,
    lpad((n % 9000)::text, 4, '0') || 'AB', (ARRAY['house','house','house','flat','shop','works'])[1 + n % 6],
    1880 + n % 140, to_tsvector('simple', 'street ' || n % 900 || ' ' || n % 180)
FROM generate_series(1, 60000) n;
INSERT INTO water.customer SELECT n, 'C' || lpad(n::text, 8, '0'), 'Customer ' || n % 30000,
    CASE WHEN n % 9 > 0 THEN 'c' || n || '@mail.example' END, 1 + (n * 17) % 60000,
    timestamptz '2010-01-01 00:00+00' + n * interval '1 hour', round((random() * 400 - 200)::numeric, 2),
    jsonb_build_object('lang', (ARRAY['en','nl','fr'])[1 + n % 3], 'paper', n % 7 = 0, 'tier', n % 500),
    CASE WHEN n % 30 = 0 THEN n / 30 END, CASE WHEN n % 25 = 0 THEN timestamptz '2025-01-01 00:00+00' + n * interval '1 minute' END
FROM generate_series(1, 80000) n;
INSERT INTO water.meter SELECT n, 'WM-' || lpad((n * 37 % 100000)::text, 6, '0') || '-' || n % 10, 1 + n % 60000, 'M' || n % 30,
    date '2005-01-01' + n % 6000, CASE WHEN n % 20 = 0 THEN date '2024-01-01' + n % 400 END, (ARRAY[15,15,20,40])[1 + n % 4],
    CASE WHEN n % 40 = 0 THEN ARRAY['leaky', 't' || n % 200] ELSE ARRAY['t' || n % 200] END
FROM generate_series(1, 70000) n;
INSERT INTO water.reading SELECT 1 + n % 3000, timestamptz '2025-01-01 00:00+00' + (n / 3000) * interval '18 hours',
    (n / 3000) * 310 + n % 400, CASE WHEN n % 50 > 0 THEN 2 + random() * 4 END, CASE WHEN random() < 0.004 THEN 3 ELSE 0 END, NULL
FROM generate_series(0, 1079999) n;
INSERT INTO water.bill SELECT n, 1 + (n * 7) % 80000, daterange((date '2024-01-01' + (n / 80000) * 91), (date '2024-01-01' + (n / 80000) * 91 + 91)),
    (CASE WHEN n % 400 = 0 THEN 'written off' WHEN n % 50 = 0 THEN 'overdue' WHEN n > 300000 THEN 'sent' ELSE 'paid' END)::water.state,
    date '2024-04-01' + (n / 80000) * 91, date '2024-05-01' + (n / 80000) * 91 + n % 20, round((20 + random() * 90)::numeric, 2), round((2 + random() * 9)::numeric, 2)
FROM generate_series(1, 320000) n;
INSERT INTO water.bill_line SELECT b, l, 1 + (b * 7) % 70000, (ARRAY['standing charge','water used','drainage'])[l], 1000 + b % 9000, round((5 + random() * 40)::numeric, 2)
FROM generate_series(1, 320000) b, generate_series(1, 2) l;
INSERT INTO water.payment SELECT n, CASE WHEN n % 60 > 0 THEN n END, 'C' || lpad((1 + (n * 7) % 80000)::text, 8, '0'), round((20 + random() * 99)::numeric, 2),
    timestamp '2024-05-01 00:00' + n * interval '90 seconds', (ARRAY['debit','debit','transfer','card','cash'])[1 + n % 5], CASE WHEN n % 4 = 0 THEN 'REF' || n END
FROM generate_series(1, 280000) n;
INSERT INTO water.node SELECT n, (ARRAY['valve','join','hydrant','pump'])[1 + n % 4], 1 + n % 24, random() * 90 FROM generate_series(1, 40000) n;
INSERT INTO water.pipe SELECT n, 1 + n / 2, 1 + n % 40000, 1900 + n % 120, 50 + n % 400, 5 + random() * 80, (ARRAY['iron','PE','PVC','lead'])[1 + n % 4] FROM generate_series(1, 60000) n;
INSERT INTO water.complaint SELECT n, 1 + (n * 13) % 80000, timestamptz '2023-01-01 00:00+00' + n * interval '20 minutes',
    CASE WHEN n % 30 > 0 THEN timestamptz '2023-01-02 00:00+00' + n * interval '20 minutes' END, (ARRAY['leak','bill','taste','pressure'])[1 + n % 4],
    'The water at number ' || n % 180 || ' of street ' || n % 900 || ' has been brown since ' || n % 28, 1 + (n % 97 = 0)::int * 4, CASE WHEN n % 3 = 0 THEN 'agent' || n % 60 END,
    jsonb_build_object('channel', (ARRAY['phone','web','app'])[1 + n % 3], 'ticket', 'T-' || n, 'tags', jsonb_build_array('k' || n % 700))
FROM generate_series(1, 70000) n;
INSERT INTO water.job SELECT n, (ARRAY['bill','mail','import'])[1 + n % 3], jsonb_build_object('id', n), timestamptz '2025-01-01 00:00+00' + n * interval '10 seconds',
    CASE WHEN n % 1500 = 0 THEN 'ready' WHEN n % 700 = 0 THEN 'failed' ELSE 'done' END, n % 4, NULL, n % 9 FROM generate_series(1, 150000) n;
INSERT INTO water.tariff SELECT n, 1 + n % 24, tstzrange(timestamptz '2000-01-01 00:00+00' + (n / 24) * interval '30 days', timestamptz '2000-01-01 00:00+00' + (n / 24 + 1) * interval '30 days'), 0.8 + n % 50 / 100.0 FROM generate_series(1, 7000) n;
INSERT INTO water.outage SELECT n, 1 + n % 24, tstzrange(timestamptz '2020-01-01 00:00+00' + n * interval '1 hour', timestamptz '2020-01-01 00:00+00' + n * interval '1 hour' + (n % 9) * interval '20 minutes'), 'burst' FROM generate_series(1, 40000) n;
INSERT INTO water.audit_trail SELECT n, (ARRAY['customer','bill','meter'])[1 + n % 3], (n % 70000)::text, timestamptz '2024-01-01 00:00+00' + n * interval '40 seconds', 'user' || n % 12, jsonb_build_object('field', 'f' || n % 30, 'old', n, 'new', n + 1) FROM generate_series(1, 250000) n;
INSERT INTO water.contact SELECT n, k, k || n, n % 2 = 0 FROM generate_series(1, 80000) n, unnest(ARRAY['phone','mail']) k;
CREATE VIEW water.last_reading AS SELECT DISTINCT ON (meter_id) meter_id, at, litres, quality FROM water.reading ORDER BY meter_id, at DESC;
CREATE VIEW water.account AS SELECT c.id, c.code, c.name, p.postcode, p.street, p.number, (SELECT count(*) FROM water.bill b WHERE b.customer_id = c.id AND b.state = 'overdue') AS overdue
    FROM water.customer c JOIN water.premises p ON p.id = c.premises_id;
CREATE MATERIALIZED VIEW water.monthly AS SELECT meter_id, date_trunc('month', at AT TIME ZONE 'UTC')::date AS month, max(litres) - min(litres) AS used FROM water.reading GROUP BY 1, 2;
CREATE FUNCTION water.m3(litres bigint) RETURNS numeric LANGUAGE sql IMMUTABLE AS 'SELECT round(litres / 1000.0, 3)';
ANALYZE;
