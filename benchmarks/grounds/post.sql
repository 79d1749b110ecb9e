-- A parcel service between islands: natural keys of two parts, scans by the second, a tariff in
-- ranges, routes as arrays, a list of events partitioned by kind, and columns that are generated.
CREATE FUNCTION h(n bigint, salt int) RETURNS bigint LANGUAGE sql IMMUTABLE AS
    'SELECT abs(hashint8(n * 37 + salt * 6151)::bigint)';
CREATE TABLE island (code char(3) PRIMARY KEY, name text NOT NULL, zone smallint NOT NULL);
INSERT INTO island SELECT 'I' || lpad(n::text, 2, '0'), 'island ' || n, n % 6 FROM generate_series(1, 60) n;
CREATE TABLE sender (sender_no text PRIMARY KEY, kind text NOT NULL, name text NOT NULL,
    phone varchar(20), joined date NOT NULL, island char(3) NOT NULL REFERENCES island,
    discount numeric(4,2), about jsonb NOT NULL);
INSERT INTO sender SELECT 'S' || n, (ARRAY['shop','shop','person','person','person','person','person','office'])[1 + h(n, 1) % 8],
    'Sender ' || n, '+' || (47000000 + h(n, 2) % 900000), date '2015-01-01' + (n / 20)::int,
    'I' || lpad((1 + h(n, 3) % 60)::text, 2, '0'), CASE WHEN h(n, 4) % 9 = 0 THEN (h(n, 5) % 30) / 2.0 END,
    jsonb_build_object('vat', 'NO' || h(n, 6) % 50000, 'tags', jsonb_build_array('t' || h(n, 7) % 40))
    FROM generate_series(1, 40000) n;
CREATE TABLE parcel (year smallint NOT NULL, serial int NOT NULL, sender_no text NOT NULL REFERENCES sender,
    to_island char(3) NOT NULL REFERENCES island, to_name text NOT NULL, weight_g int NOT NULL,
    state smallint NOT NULL, accepted timestamptz NOT NULL, delivered timestamptz, price numeric(8,2) NOT NULL,
    barcode text NOT NULL, stops text[] NOT NULL, grams_per_price numeric GENERATED ALWAYS AS (weight_g / price) STORED,
    PRIMARY KEY (year, serial));
INSERT INTO parcel SELECT 2022 + n / 100000, n % 100000, 'S' || 1 + h(n, 10) % 40000,
    'I' || lpad((1 + (h(n, 11) % 60) * (h(n, 12) % 60) / 60)::text, 2, '0'), 'Receiver ' || h(n, 13) % 120000,
    100 + h(n, 14) % 20000, CASE WHEN n > 396000 THEN h(n, 15) % 4 WHEN h(n, 16) % 200 = 0 THEN 6 ELSE 5 END,
    timestamptz '2022-01-01' + n * interval '5 minutes',
    CASE WHEN n <= 396000 AND h(n, 16) % 200 > 0 THEN timestamptz '2022-01-01' + n * interval '5 minutes' + (1 + h(n, 17) % 200) * interval '1 hour' END,
    5 + (h(n, 18) % 9000) / 100.0, upper(md5(n::text))::varchar(12),
    ARRAY['I' || lpad((1 + h(n, 19) % 60)::text, 2, '0'), 'I' || lpad((1 + h(n, 20) % 60)::text, 2, '0')]
    FROM generate_series(0, 399999) n;
CREATE INDEX parcel_sender ON parcel (sender_no, accepted);
CREATE INDEX parcel_island ON parcel (to_island);
CREATE INDEX parcel_open ON parcel (accepted) WHERE state < 5;
CREATE TABLE scan (scan_id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, year smallint NOT NULL, serial int NOT NULL,
    island char(3) NOT NULL, hand int NOT NULL, at timestamp NOT NULL, device text NOT NULL, ok boolean NOT NULL);
INSERT INTO scan (year, serial, island, hand, at, device, ok) SELECT 2022 + n / 200000, (n / 2) % 100000,
    'I' || lpad((1 + h(n, 21) % 60)::text, 2, '0'), 1 + h(n, 22) % 700, timestamp '2022-01-01' + n * interval '150 seconds',
    'dev-' || h(n, 23) % 900, h(n, 24) % 300 > 0 FROM generate_series(0, 799999) n;
CREATE INDEX scan_parcel ON scan (year, serial, at);
CREATE INDEX scan_hand ON scan (hand);
CREATE TABLE hand (hand int PRIMARY KEY, badge bigint NOT NULL UNIQUE, name text NOT NULL, boss int REFERENCES hand);
INSERT INTO hand SELECT n, 900000 + n, 'Hand ' || n, CASE WHEN n > 20 THEN 1 + n % 20 END FROM generate_series(1, 700) n;
CREATE TABLE claim (claim_id uuid PRIMARY KEY, year smallint NOT NULL, serial int NOT NULL, opened date NOT NULL,
    closed date, amount numeric(10,2) NOT NULL, reason text NOT NULL, letter text,
    FOREIGN KEY (year, serial) REFERENCES parcel);
INSERT INTO claim SELECT md5('c' || n)::uuid, 2022 + h(n, 30) % 4, h(n, 31) % 100000, date '2022-01-01' + (n / 40)::int,
    CASE WHEN n < 58000 THEN date '2022-01-20' + (n / 40)::int END, (h(n, 32) % 50000) / 100.0,
    (ARRAY['lost','broken','late','late','late','other'])[1 + h(n, 33) % 6], repeat('words of claim ' || n || ' ', (h(n, 34) % 30)::int)
    FROM generate_series(1, 60000) n;
CREATE TABLE tariff (tariff_id int PRIMARY KEY, zone smallint NOT NULL, grams int4range NOT NULL, valid daterange NOT NULL, price numeric(8,2) NOT NULL);
INSERT INTO tariff SELECT n, n % 6, int4range((n % 40) * 500, (n % 40) * 500 + 500), daterange(date '2015-01-01' + n, date '2015-01-01' + n + 30), n % 90 FROM generate_series(1, 12000) n;
CREATE TABLE happening (at timestamptz NOT NULL, kind text NOT NULL, who text, note jsonb) PARTITION BY LIST (kind);
CREATE TABLE happening_login PARTITION OF happening FOR VALUES IN ('login');
CREATE TABLE happening_print PARTITION OF happening FOR VALUES IN ('print');
CREATE TABLE happening_rest PARTITION OF happening DEFAULT;
INSERT INTO happening SELECT timestamptz '2024-01-01' + n * interval '70 seconds', (ARRAY['login','login','print','open','shut'])[1 + h(n, 40) % 5],
    'S' || 1 + h(n, 41) % 40000, jsonb_build_object('ip', '10.' || h(n, 42) % 250 || '.1.' || h(n, 43) % 250) FROM generate_series(1, 300000) n;
CREATE INDEX happening_at ON happening (at);
CREATE TABLE round_trip (trip_id int PRIMARY KEY, islands text[] NOT NULL, leaves time NOT NULL, days int[] NOT NULL);
INSERT INTO round_trip SELECT n, ARRAY['I' || lpad((1 + h(n, 50) % 60)::text, 2, '0'), 'I' || lpad((1 + h(n, 51) % 60)::text, 2, '0')], time '05:00' + (h(n, 52) % 900) * interval '1 minute', ARRAY[1 + (h(n, 53) % 7)::int] FROM generate_series(1, 30000) n;
ANALYZE;
