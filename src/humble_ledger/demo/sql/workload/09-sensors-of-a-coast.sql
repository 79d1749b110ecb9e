-- about: the sensors of one kind on a coast
-- trouble: a forgotten join condition
-- application: stock-list
-- send: literal
-- times: 2
-- values: ["salinity", "north"]
SELECT DISTINCT s.sensor_id, s.fitted_on, k.name AS keeper
FROM sensor AS s, buoy AS b, region AS r, keeper AS k
WHERE s.buoy_id = b.buoy_id AND s.kind = $1
  AND r.coast = $2 AND k.region_id = r.region_id
