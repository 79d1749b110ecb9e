-- Every value comes from a checksum of the row's number: the same data on every server.
-- crc32(concat(n, ':', k)) is an even spread over 0 … 2^32-1; k gives independent columns.
INSERT INTO region
SELECT seq, elt(seq, 'Aldernes','Brindsund','Carrowholm','Dunvary','Eskwater','Farne Hollow',
                'Gullmouth','Hesperick','Inverlay','Jorvane','Kelder Reach','Lunnasound'),
       elt(1 + seq % 3, 'north', 'west', 'south')
FROM seq_1_to_12;

INSERT INTO keeper
SELECT seq, 1 + seq % 12,
       concat(elt(1 + crc32(concat(seq, ':1')) % 10, 'Ailsa','Bram','Corin','Dagny','Edda','Finlo',
                  'Greer','Hakon','Isla','Jory'), ' ',
              elt(1 + crc32(concat(seq, ':2')) % 9, 'Brae','Calder','Dunlin','Eider','Fulmar',
                  'Garrick','Haldane','Ivesen','Kittle')),
       '2009-01-01' + INTERVAL crc32(concat(seq, ':3')) % 6000 DAY
FROM seq_1_to_900;

INSERT INTO buoy
SELECT seq, 1 + seq % 12, concat('SW-', lpad(seq, 3, '0')),
       CASE WHEN seq IN (7, 61, 118, 203, 340) THEN 'harbour'
            ELSE elt(1 + (seq % 12) DIV 3, 'drift', 'reef', 'deep', 'fairway') END,
       '2012-03-01' + INTERVAL crc32(concat(seq, ':4')) % 4800 DAY,
       4 + (crc32(concat(seq, ':5')) % 900) / 10.0
FROM seq_1_to_400;

-- Six sensors on each buoy.
INSERT INTO sensor
SELECT seq, 1 + (seq - 1) DIV 6,
       elt(1 + (seq - 1) % 6, 'temperature','salinity','wave','current','pressure','battery'),
       elt(1 + (seq - 1) % 6, '°C','g/kg','m','m/s','hPa','V'),
       '2018-05-01' + INTERVAL crc32(concat(seq, ':6')) % 2800 DAY
FROM seq_1_to_2400;

-- Readings, evenly from January to June 2026. The five harbour buoys make a quarter of them.
INSERT INTO reading
SELECT n, (buoy - 1) * 6 + 1 + crc32(concat(n, ':8')) % 6, buoy,
       '2026-01-01' + INTERVAL n * {step_ms} * 1000 MICROSECOND,
       round(12 + 8 * sin(n / 60000.0) + (crc32(concat(n, ':9')) % 1000) / 250.0, 3),
       CASE WHEN crc32(concat(n, ':10')) % 100 < 96 THEN 1
            ELSE 2 + crc32(concat(n, ':11')) % 4 END
FROM (
    SELECT seq AS n, CASE WHEN crc32(concat(seq, ':7')) % 4 = 0
                          THEN elt(1 + (crc32(concat(seq, ':7')) >> 3) % 5, 7, 61, 118, 203, 340) + 0
                          ELSE 1 + (crc32(concat(seq, ':7')) >> 3) % 400 END AS buoy
    FROM seq_1_to_{readings}
) AS spread;

-- A cause belongs to one kind of alert and to one crew: three columns that move together.
INSERT INTO alert
SELECT n, 1 + crc32(concat(n, ':12')) % 400, 1 + crc32(concat(n, ':13')) % 2400,
       '2025-07-01' + INTERVAL n * 525 SECOND,
       elt(1 + cause DIV 5, 'mooring','power','sensor','radio','ice','hull','light','drift'),
       concat('cause-', cause), concat('crew-', (cause * 7) % 40),
       concat('E-', 1000 + crc32(concat(n, ':15')) % 3000),
       CASE WHEN crc32(concat(n, ':16')) % 20 = 0 THEN 'open' ELSE 'closed' END,
       concat('Buoy ', 1 + crc32(concat(n, ':12')) % 400, ' reported ', md5(n))
FROM (SELECT seq AS n, crc32(concat(seq, ':14')) % 40 AS cause FROM seq_1_to_60000) AS a;

INSERT INTO visit
SELECT seq, 1 + crc32(concat(seq, ':17')) % 400, 1 + crc32(concat(seq, ':18')) % 900,
       '2025-07-01 06:00:00' + INTERVAL seq * 26 MINUTE,
       20 + crc32(concat(seq, ':19')) % 300,
       CASE WHEN crc32(concat(seq, ':20')) % 3 = 0 THEN concat('remark ', md5(seq)) END
FROM seq_1_to_20000;

ANALYZE TABLE region, keeper, buoy, sensor, reading, alert, visit;
