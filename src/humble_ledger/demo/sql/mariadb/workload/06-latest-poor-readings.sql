-- about: doubtful readings of the last hours, by buoy
-- trouble: a time range without an index
-- application: night-watch
-- send: literal
-- values: ["2026-06-28 12:00:00"]
-- values: ["2026-06-29 00:00:00"]
SELECT b.name, s.kind, r.taken_at, r.value
FROM reading AS r
JOIN sensor AS s ON s.sensor_id = r.sensor_id
JOIN buoy AS b ON b.buoy_id = s.buoy_id
WHERE r.taken_at >= $1 AND r.quality > 2
