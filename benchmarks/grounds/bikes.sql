-- Bicycles for hire: rides by town, then by bicycle; prices in time; addresses of machines; a tree
-- of zones; rows that only their tenant sees. Invented, as is all of it.
CREATE SCHEMA hire;
CREATE EXTENSION IF NOT EXISTS citext;
CREATE EXTENSION IF NOT EXISTS ltree;
CREATE EXTENSION IF NOT EXISTS hstore;
CREATE EXTENSION IF NOT EXISTS btree_gist;
CREATE EXTENSION IF NOT EXISTS pg_trgm;
CREATE DOMAIN hire.plate AS varchar(12) CHECK (VALUE ~ '^[A-Z]{2}-[0-9]+$');
CREATE TYPE hire.spot AS (lat double precision, lon double precision);

CREATE TABLE hire.zone (id int PRIMARY KEY, way ltree NOT NULL, name citext NOT NULL);
CREATE TABLE hire.station (
    id int PRIMARY KEY, town text NOT NULL, zone_id int NOT NULL REFERENCES hire.zone,
    name citext NOT NULL, docks smallint NOT NULL, at hire.spot NOT NULL, closed bool
);
CREATE TABLE hire.bike (
    id int PRIMARY KEY, plate hire.plate NOT NULL, model text NOT NULL, bought date NOT NULL,
    gear hstore NOT NULL, traits bit(8) NOT NULL, station_id int, weight real NOT NULL,
    price money NOT NULL, scrapped date
);
CREATE TABLE hire.member (
    id uuid PRIMARY KEY, number char(10) NOT NULL, mail citext NOT NULL, first text NOT NULL,
    last text NOT NULL, since date NOT NULL, plan_id int NOT NULL, phone text, born date,
    invited_by uuid, notes text, gone timestamptz
);
CREATE TABLE hire.ride (
    id bigint NOT NULL, town text NOT NULL, bike_id int NOT NULL, member_id uuid NOT NULL,
    from_id int NOT NULL, to_id int, began timestamp NOT NULL, ended timestamp,
    took interval GENERATED ALWAYS AS (ended - began) STORED, cost numeric(8, 2), paid bool NOT NULL,
    PRIMARY KEY (id, town, bike_id)
) PARTITION BY LIST (town);
CREATE TABLE hire.ride_east PARTITION OF hire.ride FOR VALUES IN ('Aster', 'Birch')
    PARTITION BY HASH (bike_id);
CREATE TABLE hire.ride_east_0 PARTITION OF hire.ride_east FOR VALUES WITH (MODULUS 2, REMAINDER 0);
CREATE TABLE hire.ride_east_1 PARTITION OF hire.ride_east FOR VALUES WITH (MODULUS 2, REMAINDER 1);
CREATE TABLE hire.ride_west PARTITION OF hire.ride FOR VALUES IN ('Cedar', 'Dale');
CREATE TABLE hire.ride_rest PARTITION OF hire.ride DEFAULT;
CREATE TABLE hire.tariff (
    plan_id int NOT NULL, valid daterange NOT NULL, minute numeric(6, 3) NOT NULL,
    EXCLUDE USING gist (plan_id WITH =, valid WITH &&)
);
CREATE TABLE hire.invoice (
    id int PRIMARY KEY, member_id uuid NOT NULL REFERENCES hire.member, month date NOT NULL,
    total numeric(10, 2) NOT NULL, state varchar(10) NOT NULL, due timestamptz NOT NULL,
    reminders int NOT NULL DEFAULT 0
);
CREATE TABLE hire.line (
    invoice_id int NOT NULL REFERENCES hire.invoice, nr int NOT NULL, ride_id bigint,
    words text NOT NULL, amount numeric(8, 2) NOT NULL, PRIMARY KEY (invoice_id, nr)
);
CREATE TABLE hire.ping (
    at timestamptz NOT NULL, bike_id int NOT NULL, host inet NOT NULL, volt real NOT NULL,
    payload json NOT NULL
);
CREATE TABLE hire.event (id bigint PRIMARY KEY, at timestamp NOT NULL, kind text NOT NULL, body xml);
CREATE TABLE hire.damage (reporter uuid NOT NULL, bike_id int NOT NULL, grade int NOT NULL)
    INHERITS (hire.event);
CREATE TABLE hire.repair (bike_id int NOT NULL, parts int[] NOT NULL, cost numeric(8, 2) NOT NULL)
    INHERITS (hire.event);
CREATE TABLE hire.note (
    id int PRIMARY KEY, tenant int NOT NULL, about text NOT NULL, body text NOT NULL, made timestamptz
);

SELECT setseed(0.5);
INSERT INTO hire.zone SELECT n, text2ltree('city.' || 'd' || n % 12 || '.q' || n % 60 || '.z' || n),
    'Zone ' || n FROM generate_series(1, 600) n;
INSERT INTO hire.station SELECT n, (ARRAY['Aster','Aster','Birch','Cedar','Dale','Elm'])[1 + n % 6],
    1 + n % 600, 'Stand ' || n, 8 + n % 30, ROW(52 + random(), 5 + random())::hire.spot,
    CASE n % 40 WHEN 0 THEN true WHEN 1 THEN NULL ELSE false END FROM generate_series(1, 3000) n;
INSERT INTO hire.bike SELECT n, (ARRAY['AB','CD','EF'])[1 + n % 3] || '-' || n, 'Model ' || n % 40,
    date '2018-01-01' + n % 2500, hstore(ARRAY['tyre', 'lock'], ARRAY['T' || n % 300, 'L' || n % 4]),
    (n % 256)::bit(8), CASE WHEN n % 3 > 0 THEN 1 + n % 3000 END, 14 + random() * 12,
    (n % 700 + 300)::money, CASE WHEN n % 50 = 0 THEN date '2025-01-01' + n % 300 END
FROM generate_series(1, 60000) n;
INSERT INTO hire.member SELECT md5('m' || n)::uuid, 'N' || lpad(n::text, 8, '0'),
    'Rider' || n || '@hire.example', (ARRAY['Ada','Bo','Cy','Di','Ed','Flo','Gus'])[1 + n % 7],
    'Rider' || n % 20000, date '2016-01-01' + n % 3400, CASE WHEN n % 1000 = 0 THEN 9 ELSE n % 4 END,
    CASE WHEN n % 5 > 0 THEN '06-' || lpad((n * 7919 % 99999999)::text, 8, '0') END,
    date '1950-01-01' + n * 37 % 20000, CASE WHEN n % 4 = 0 THEN md5('m' || n / 4)::uuid END,
    CASE WHEN n % 20 = 0 THEN repeat('called, ', 1 + n % 9) END,
    CASE WHEN n % 12 = 0 THEN timestamptz '2024-01-01 00:00+00' + n * interval '3 minutes' END
FROM generate_series(1, 150000) n;
INSERT INTO hire.ride (id, town, bike_id, member_id, from_id, to_id, began, ended, cost, paid)
SELECT n, (ARRAY['Aster','Aster','Aster','Birch','Cedar','Cedar','Dale','Elm'])[1 + n % 8],
    1 + (power(random(), 2) * 59999)::int, md5('m' || 1 + (power(random(), 2) * 149999)::int)::uuid,
    1 + (random() * 2999)::int, CASE WHEN n % 500 > 0 THEN 1 + (random() * 2999)::int END,
    timestamp '2025-01-01 00:00' + n * interval '30 seconds',
    CASE WHEN n % 500 > 0 THEN timestamp '2025-01-01 00:00' + n * interval '30 seconds'
        + (3 + random() * 55) * interval '1 minute' END,
    round((1 + random() * 9)::numeric, 2), n % 60 > 0 FROM generate_series(1, 1000000) n;
INSERT INTO hire.tariff SELECT p, daterange(date '2016-01-01' + k * 90, date '2016-01-01' + (k + 1) * 90),
    round((random() / 5)::numeric, 3) FROM generate_series(0, 300) p, generate_series(0, 39) k;
INSERT INTO hire.invoice SELECT n, md5('m' || 1 + n * 13 % 150000)::uuid,
    (date '2025-01-01' + (n % 12) * interval '1 month')::date, round((random() * 80)::numeric, 2),
    CASE WHEN n % 300 = 0 THEN 'disputed' WHEN n % 40 = 0 THEN 'open' ELSE 'paid' END,
    timestamptz '2025-02-01 00:00+00' + (n % 12) * interval '1 month' + n % 28 * interval '1 day',
    CASE WHEN n % 70 = 0 THEN 1 + n % 4 ELSE 0 END FROM generate_series(1, 200000) n;
INSERT INTO hire.line SELECT 1 + n / 4, n % 4, n, 'Ride ' || n || ' of the month', round((random() * 9)::numeric, 2)
FROM generate_series(4, 799999) n;
INSERT INTO hire.ping SELECT timestamptz '2025-06-01 00:00+00' + n * interval '2 seconds',
    1 + n * 7 % 60000, ('10.' || n % 60 || '.' || n * 7 % 250 || '.' || n % 199)::inet,
    3 + random(), json_build_object('c', n % 4000, 'lost', n % 900 = 0)
FROM generate_series(1, 600000) n;
INSERT INTO hire.event SELECT n, timestamp '2025-01-01 00:00' + n * interval '9 minutes', 'seen', NULL
FROM generate_series(1, 40000) n;
INSERT INTO hire.damage SELECT 100000 + n, timestamp '2025-01-01 00:00' + n * interval '9 minutes',
    'damage', NULL, md5('m' || 1 + n % 150000)::uuid, 1 + n * 11 % 60000, n % 5
FROM generate_series(1, 60000) n;
INSERT INTO hire.repair SELECT 300000 + n, timestamp '2025-01-01 00:00' + n * interval '20 minutes',
    'repair', NULL, 1 + n * 17 % 60000, ARRAY[n % 900, n % 77], round((random() * 90)::numeric, 2)
FROM generate_series(1, 50000) n;
INSERT INTO hire.note SELECT n, 1 + n % 400, 'ride ' || n % 9000, 'Said: ' || md5(n::text),
    CASE WHEN n % 30 > 0 THEN timestamptz '2025-01-01 00:00+00' + n * interval '5 minutes' END
FROM generate_series(1, 90000) n;

CREATE INDEX zone_way ON hire.zone USING gist (way);
CREATE INDEX bike_plate ON hire.bike (plate);
CREATE INDEX bike_station ON hire.bike (station_id) WHERE scrapped IS NULL;
CREATE UNIQUE INDEX member_mail ON hire.member (mail);
CREATE UNIQUE INDEX member_number ON hire.member (number);
CREATE INDEX member_last ON hire.member (last, first);
CREATE INDEX ride_bike ON hire.ride (bike_id, began DESC);
CREATE INDEX ride_began ON hire.ride USING brin (began);
CREATE INDEX invoice_member ON hire.invoice (member_id, month);
CREATE INDEX invoice_open ON hire.invoice (due) WHERE state = 'open';
CREATE INDEX ping_at ON hire.ping USING brin (at);
CREATE INDEX ping_bike ON hire.ping USING hash (bike_id);
CREATE INDEX damage_bike ON hire.damage (bike_id);
CREATE INDEX note_tenant ON hire.note (tenant, made);
CREATE MATERIALIZED VIEW hire.busy AS
    SELECT from_id AS station_id, began::date AS day, count(*) AS rides, sum(cost) AS cost
    FROM hire.ride GROUP BY 1, 2;
CREATE VIEW hire.current AS SELECT r.*, b.plate, b.model FROM hire.ride r
    JOIN hire.bike b ON b.id = r.bike_id WHERE r.ended IS NULL;
CREATE VIEW hire.owing WITH (security_barrier) AS
    SELECT m.id, m.mail, i.total, i.due FROM hire.member m JOIN hire.invoice i ON i.member_id = m.id
    WHERE i.state <> 'paid';
CREATE FUNCTION hire.minutes(span interval) RETURNS numeric LANGUAGE sql IMMUTABLE
    AS $$ SELECT extract(epoch FROM span) / 60 $$;
CREATE FUNCTION hire.rides_of(bike int) RETURNS SETOF hire.ride LANGUAGE sql STABLE
    AS $$ SELECT * FROM hire.ride WHERE bike_id = bike $$;
CREATE FUNCTION hire.latest(member uuid) RETURNS timestamp LANGUAGE plpgsql STABLE
    AS $$ BEGIN RETURN (SELECT max(began) FROM hire.ride WHERE member_id = member); END $$;
