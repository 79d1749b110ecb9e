-- about: alerts of one cause, with the keepers of the region
-- trouble: correlated columns that break an estimate
-- application: crew-planner
-- send: literal
-- times: 2
-- values: ["mooring", "cause-3", "crew-21"]
-- values: ["ice", "cause-22", "crew-34"]
SELECT a.alert_id, a.raised_at, b.name, r.name AS region
FROM alert AS a
JOIN buoy AS b ON b.buoy_id = a.buoy_id
JOIN region AS r ON r.region_id = b.region_id
WHERE a.kind = $1 AND a.cause = $2 AND a.crew = $3
