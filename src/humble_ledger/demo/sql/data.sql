-- Every value comes from a hash of the row's number: the same data on every server version.
-- mix(n, k) is an even spread over 0 … 2^31-1; k gives independent columns.
CREATE FUNCTION pg_temp.mix(n bigint, k integer) RETURNS bigint
    LANGUAGE sql IMMUTABLE PARALLEL SAFE
    AS $$ SELECT hashint8extended(n, k) & 2147483647 $$;

INSERT INTO region
SELECT n, (ARRAY['Aldernes','Brindsund','Carrowholm','Dunvary','Eskwater','Farne Hollow',
                 'Gullmouth','Hesperick','Inverlay','Jorvane','Kelder Reach','Lunnasound'])[n],
       (ARRAY['north','west','south'])[1 + n % 3]
FROM generate_series(1, 12) AS n;

INSERT INTO keeper
SELECT n, 1 + n % 12,
       (ARRAY['Ailsa','Bram','Corin','Dagny','Edda','Finlo','Greer','Hakon','Isla','Jory'])[1 + pg_temp.mix(n, 1) % 10]
         || ' ' ||
       (ARRAY['Brae','Calder','Dunlin','Eider','Fulmar','Garrick','Haldane','Ivesen','Kittle'])[1 + pg_temp.mix(n, 2) % 9],
       DATE '2009-01-01' + (pg_temp.mix(n, 3) % 6000)::integer
FROM generate_series(1, 900) AS n;

INSERT INTO buoy
SELECT n, 1 + n % 12, 'SW-' || lpad(n::text, 3, '0'),
       CASE WHEN n IN (7, 61, 118, 203, 340) THEN 'harbour'
            ELSE (ARRAY['drift','reef','deep','fairway'])[1 + (n % 12) / 3] END,
       DATE '2012-03-01' + (pg_temp.mix(n, 4) % 4800)::integer,
       4 + (pg_temp.mix(n, 5) % 900) / 10.0
FROM generate_series(1, 400) AS n;

-- Six sensors on each buoy.
INSERT INTO sensor
SELECT n, 1 + (n - 1) / 6,
       (ARRAY['temperature','salinity','wave','current','pressure','battery'])[1 + (n - 1) % 6],
       (ARRAY['°C','g/kg','m','m/s','hPa','V'])[1 + (n - 1) % 6],
       DATE '2018-05-01' + (pg_temp.mix(n, 6) % 2800)::integer
FROM generate_series(1, 2400) AS n;

-- 1.5 million readings, one about every ten seconds from January to June 2026. The five
-- harbour buoys make a quarter of them.
CREATE PROCEDURE pg_temp.take_readings(first bigint, last bigint) LANGUAGE sql AS $$
    INSERT INTO reading
    SELECT n, (buoy - 1) * 6 + 1 + pg_temp.mix(n, 8) % 6, buoy,
           TIMESTAMPTZ '2026-01-01 00:00:00+00' + n * INTERVAL '{step_s} seconds',
           round((12 + 8 * sin(n / ({readings} / 25.0)) + (pg_temp.mix(n, 9) % 1000) / 250.0)::numeric, 3),
           CASE WHEN pg_temp.mix(n, 10) % 100 < 96 THEN 1 ELSE 2 + pg_temp.mix(n, 11) % 4 END
    FROM (
        SELECT n, CASE WHEN pg_temp.mix(n, 7) % 4 = 0
                       THEN (ARRAY[7, 61, 118, 203, 340])[1 + (pg_temp.mix(n, 7) >> 3) % 5]
                       ELSE 1 + (pg_temp.mix(n, 7) >> 3) % 400 END AS buoy
        FROM generate_series(first, last) AS n
    ) AS spread;
$$;
CALL pg_temp.take_readings(1, {seen});

-- A cause belongs to one kind of alert and to one crew: three columns that move together.
INSERT INTO alert
SELECT n, 1 + pg_temp.mix(n, 12) % 400, 1 + pg_temp.mix(n, 13) % 2400,
       TIMESTAMPTZ '2025-07-01 00:00:00+00' + n * INTERVAL '8 minutes 45 seconds',
       (ARRAY['mooring','power','sensor','radio','ice','hull','light','drift'])[1 + cause / 5],
       'cause-' || cause, 'crew-' || (cause * 7) % 40,
       'E-' || 1000 + pg_temp.mix(n, 15) % 3000,
       CASE WHEN pg_temp.mix(n, 16) % 20 = 0 THEN 'open' ELSE 'closed' END,
       'Buoy ' || (1 + pg_temp.mix(n, 12) % 400) || ' reported ' || md5(n::text)
FROM (SELECT n, (pg_temp.mix(n, 14) % 40)::integer AS cause FROM generate_series(1, 60000) AS n) AS a;

INSERT INTO visit
SELECT n, 1 + pg_temp.mix(n, 17) % 400, 1 + pg_temp.mix(n, 18) % 900,
       TIMESTAMPTZ '2025-07-01 06:00:00+00' + n * INTERVAL '26 minutes',
       20 + pg_temp.mix(n, 19) % 300,
       CASE WHEN pg_temp.mix(n, 20) % 3 = 0 THEN 'remark ' || md5(n::text) END
FROM generate_series(1, 20000) AS n;

ALTER TABLE reading ADD PRIMARY KEY (reading_id);
CREATE INDEX reading_buoy_taken ON reading (buoy_id, taken_at);
CREATE INDEX reading_buoy ON reading (buoy_id);       -- repeats the one above
CREATE INDEX reading_quality ON reading (quality);    -- nobody uses it
CREATE INDEX alert_raised ON alert (raised_at);
CREATE INDEX alert_sensor_code ON alert (sensor_id, code);
CREATE INDEX visit_buoy ON visit (buoy_id);
CREATE INDEX sensor_buoy ON sensor (buoy_id);

-- Where commits are not awaited, a vacuum cannot yet mark the newest pages as visible; this one
-- is awaited, and all before it with it.
SET synchronous_commit = on;
ANALYZE region;
VACUUM ANALYZE;

-- The last three and a half days arrive after the statistics were gathered.
CALL pg_temp.take_readings({seen} + 1, {readings});
