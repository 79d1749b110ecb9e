-- about: the ten highest values of a sensor, ever
-- trouble: the same missing index as the readings of a sensor, met from another side
-- application: buoy-pages
-- send: prepared
-- values: [1187]
-- values: [640]
SELECT taken_at, value
FROM reading
WHERE sensor_id = $1
ORDER BY value DESC
LIMIT 10
