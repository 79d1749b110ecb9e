-- An auction house: bids by month, ranges, texts to search, views on views, a calendar of rates.
-- Invented, as is all of it.
CREATE SCHEMA sale;
CREATE EXTENSION IF NOT EXISTS pg_trgm;
CREATE TYPE sale.lot_state AS ENUM ('draft', 'open', 'sold', 'unsold', 'withdrawn');
CREATE DOMAIN sale.money2 AS numeric(10, 2) CHECK (VALUE >= 0);

CREATE TABLE sale.house (
    id int PRIMARY KEY, name text NOT NULL, region text NOT NULL, opened date NOT NULL
);
CREATE TABLE sale.category (
    id int PRIMARY KEY, parent int REFERENCES sale.category, name text NOT NULL, path text NOT NULL
);
CREATE TABLE sale.person (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, handle text NOT NULL UNIQUE,
    email text NOT NULL, born date, country char(2) NOT NULL, joined timestamptz NOT NULL,
    trust numeric(5, 2), flags int NOT NULL, address jsonb
);
CREATE TABLE sale.lot (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, house_id int NOT NULL,
    seller_id bigint NOT NULL REFERENCES sale.person, category_id int NOT NULL,
    title text NOT NULL, descr text NOT NULL, opens timestamptz NOT NULL,
    closes timestamptz NOT NULL,
    during tstzrange GENERATED ALWAYS AS (tstzrange(opens, closes)) STORED,
    reserve sale.money2, state sale.lot_state NOT NULL, tags text[] NOT NULL, attrs jsonb NOT NULL,
    words tsvector GENERATED ALWAYS AS (to_tsvector('english', title || ' ' || descr)) STORED
);
CREATE TABLE sale.bid (
    id bigint NOT NULL, lot_id bigint NOT NULL, bidder_id bigint NOT NULL, amount numeric(10, 2),
    placed_at timestamptz NOT NULL, source smallint NOT NULL, void boolean NOT NULL DEFAULT false,
    PRIMARY KEY (id, placed_at)
) PARTITION BY RANGE (placed_at);
DO $$
BEGIN
    FOR m IN 1..12 LOOP
        EXECUTE format(
            'CREATE TABLE sale.bid_%s PARTITION OF sale.bid FOR VALUES FROM (%L) TO (%L)',
            to_char(m, 'FM00'), make_date(2025, m, 1), make_date(2025, m, 1) + interval '1 month');
    END LOOP;
END $$;
CREATE TABLE sale.watch (
    person_id bigint NOT NULL, lot_id bigint NOT NULL, since timestamptz NOT NULL,
    PRIMARY KEY (person_id, lot_id)
);
CREATE TABLE sale.message (
    id bigint PRIMARY KEY, thread uuid NOT NULL, from_id bigint NOT NULL, to_id bigint NOT NULL,
    sent_at timestamptz NOT NULL, body text NOT NULL, seen_at timestamptz
);
CREATE TABLE sale.payment (
    id int PRIMARY KEY, lot_id int NOT NULL, payer varchar(20) NOT NULL, amount numeric(10, 2),
    paid_at timestamp NOT NULL, method text NOT NULL, ref text
);
CREATE TABLE sale.rate (
    currency char(3) NOT NULL, day date NOT NULL, rate double precision NOT NULL,
    PRIMARY KEY (currency, day)
);
CREATE TABLE sale.journal (
    at timestamptz NOT NULL, who text NOT NULL, what text NOT NULL, detail jsonb NOT NULL
);

INSERT INTO sale.house SELECT n, 'House ' || n, (ARRAY['north','east','south','west'])[1 + n % 4],
    date '1980-01-01' + n * 200 FROM generate_series(1, 40) n;
INSERT INTO sale.category SELECT n, CASE WHEN n > 10 THEN 1 + n % 10 END, 'Category ' || n,
    CASE WHEN n > 10 THEN (1 + n % 10) || '.' || n ELSE n::text END FROM generate_series(1, 1500) n;
INSERT INTO sale.person (handle, email, born, country, joined, trust, flags, address)
SELECT 'bidder' || n, CASE WHEN n % 3 = 0 THEN 'B' ELSE 'b' END || 'idder' || n || '@post.example',
    CASE WHEN n % 11 > 0 THEN date '1940-01-01' + (n * 7919 % 24000) END,
    (ARRAY['NL','DE','FR','DK','SE','NO'])[1 + (power(random(), 2) * 6)::int % 6],
    timestamptz '2015-01-01 00:00+00' + n * interval '48 minutes',
    round((random() * 100)::numeric, 2), n % 128,
    jsonb_build_object('city', 'Town ' || n % 900, 'zip', lpad((n % 9000)::text, 5, '0'))
FROM generate_series(1, 90000) n;
INSERT INTO sale.lot (house_id, seller_id, category_id, title, descr, opens, closes, reserve, state,
    tags, attrs)
SELECT 1 + n % 40, 1 + (power(random(), 3) * 89999)::bigint, 1 + (random() * 1499)::int,
    (ARRAY['Oak','Brass','Silver','Linen','Tin','Glass'])[1 + n % 6] || ' '
        || (ARRAY['chest','lamp','clock','chart','bell','barometer','sextant'])[1 + n % 7] || ' no ' || n,
    'From the estate of keeper ' || n % 5000 || ', ' || repeat('worn but whole ', 1 + n % 5),
    timestamptz '2025-01-01 00:00+00' + (n % 330) * interval '1 day',
    timestamptz '2025-01-01 00:00+00' + (n % 330 + 1 + n % 14) * interval '1 day',
    CASE WHEN n % 4 > 0 THEN round((20 + random() * 900)::numeric, 2) END,
    (CASE WHEN n % 200 = 0 THEN 'withdrawn' WHEN n % 50 = 0 THEN 'draft' WHEN n % 10 = 0 THEN 'open'
        WHEN n % 3 = 0 THEN 'unsold' ELSE 'sold' END)::sale.lot_state,
    ARRAY['t' || n % 400, 'u' || n % 37], jsonb_build_object('kg', n % 90, 'maker', 'M' || n % 2500)
FROM generate_series(1, 180000) n;
INSERT INTO sale.bid SELECT n, 1 + (power(random(), 2) * 179999)::bigint,
    1 + (power(random(), 2) * 89999)::bigint, round((10 + random() * 2000)::numeric, 2),
    timestamptz '2025-01-01 00:00+00' + n * interval '31 seconds', n % 5, n % 97 = 0
FROM generate_series(1, 1000000) n;
CREATE INDEX bid_lot ON sale.bid (lot_id);
INSERT INTO sale.watch SELECT DISTINCT ON (p, l) p, l, timestamptz '2025-01-01 00:00+00'
    + n * interval '1 minute' FROM (SELECT n, 1 + (random() * 89999)::bigint p,
    1 + (random() * 179999)::bigint l FROM generate_series(1, 300000) n) s;
INSERT INTO sale.message SELECT n, md5((n / 8)::text)::uuid, 1 + n * 31 % 90000, 1 + n * 17 % 90000,
    timestamptz '2025-01-01 00:00+00' + n * interval '2 minutes', 'About the lot: ' || md5(n::text),
    CASE WHEN n % 25 > 0 THEN timestamptz '2025-01-02 00:00+00' + n * interval '2 minutes' END
FROM generate_series(1, 200000) n;
INSERT INTO sale.payment SELECT n, n, (1 + n * 13 % 90000)::text, round((random() * 2000)::numeric, 2),
    timestamp '2025-01-01 00:00' + n * interval '4 minutes',
    (ARRAY['card','card','card','transfer','cash'])[1 + n % 5], 'R-' || lpad(n::text, 8, '0')
FROM generate_series(1, 120000) n;
INSERT INTO sale.rate SELECT c, date '2015-01-01' + d, 0.5 + random()
FROM unnest(ARRAY['DKK','SEK','NOK','GBP','USD','CHF']) c, generate_series(0, 3999) d;
INSERT INTO sale.journal SELECT timestamptz '2025-01-01 00:00+00' + n * interval '50 seconds',
    'bidder' || n % 3000, (ARRAY['login','bid','pay','watch','logout'])[1 + n % 5],
    jsonb_build_object('ip', '10.0.' || n % 250 || '.' || n % 199, 'n', n)
FROM generate_series(1, 500000) n;
CREATE INDEX lot_house ON sale.lot (house_id);
CREATE INDEX lot_category ON sale.lot (category_id, state);
CREATE INDEX lot_closes_open ON sale.lot (closes) WHERE state = 'open';
CREATE INDEX person_email ON sale.person (lower(email));
CREATE INDEX message_thread ON sale.message (thread);
CREATE INDEX payment_payer ON sale.payment (payer);
CREATE INDEX payment_lot ON sale.payment (lot_id);
CREATE VIEW sale.good_bid AS SELECT * FROM sale.bid WHERE NOT void;
CREATE VIEW sale.top_bid AS SELECT DISTINCT ON (lot_id) lot_id, bidder_id, amount, placed_at
    FROM sale.good_bid ORDER BY lot_id, amount DESC;
CREATE VIEW sale.open_lot AS SELECT l.*, h.name AS house, h.region FROM sale.lot l
    JOIN sale.house h ON h.id = l.house_id WHERE l.state = 'open';
CREATE FUNCTION sale.fee(amount numeric) RETURNS numeric LANGUAGE sql IMMUTABLE
    AS $$ SELECT round(amount * 0.12, 2) $$;
CREATE FUNCTION sale.shouted(word text) RETURNS text LANGUAGE plpgsql IMMUTABLE
    AS $$ BEGIN RETURN upper(word); END $$;
