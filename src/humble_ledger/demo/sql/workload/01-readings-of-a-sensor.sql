-- about: one sensor's readings since its last service, for its page
-- trouble: a selective filter with no index
-- application: buoy-pages
-- send: prepared
-- values: [1187, "2026-02-01"]
-- values: [411, "2026-02-10"]
-- values: [1999, "2026-01-20"]
-- values: [95, "2026-03-01"]
SELECT taken_at, value, quality
FROM reading
WHERE sensor_id = $1 AND taken_at >= $2
ORDER BY taken_at
