-- about: the mean value of one buoy's readings
-- trouble: a value so common that one plan cannot serve all
-- application: buoy-pages
-- send: prepared
-- values: [7]
-- values: [200]
-- values: [311]
-- values: [118]
SELECT count(*) AS readings, avg(value) AS mean, max(value) AS highest
FROM reading
WHERE buoy_id = $1
