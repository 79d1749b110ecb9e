-- about: a keeper's visits, newest first
-- trouble: a selective filter with no index, on a smaller table
-- application: keeper-pages
-- send: prepared
-- times: 5
-- values: [417]
-- values: [88]
SELECT v.visit_id, b.name, v.started_at, v.minutes
FROM visit AS v
JOIN buoy AS b ON b.buoy_id = v.buoy_id
WHERE v.keeper_id = $1
ORDER BY v.started_at DESC
LIMIT 20
