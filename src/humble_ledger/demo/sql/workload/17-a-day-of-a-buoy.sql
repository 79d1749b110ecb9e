-- about: one day of one buoy
-- trouble: none: this query is fine
-- application: buoy-pages
-- send: prepared
-- times: 4
-- values: [200, "2026-04-01", "2026-04-02"]
-- values: [311, "2026-05-17", "2026-05-18"]
SELECT taken_at, sensor_id, value
FROM reading
WHERE buoy_id = $1 AND taken_at >= $2 AND taken_at < $3
ORDER BY taken_at
