-- about: the buoys of a region with the number of their open alerts
-- trouble: a sub-query per row
-- application: duty-desk
-- send: literal
-- times: 2
-- values: [3]
-- values: [8]
SELECT b.buoy_id, b.name,
       (SELECT count(*) FROM alert AS a WHERE a.buoy_id = b.buoy_id AND a.status = 'open') AS open_alerts
FROM buoy AS b
WHERE b.region_id = $1
ORDER BY open_alerts DESC
