-- about: the mean of each buoy over the season
-- trouble: aggregation after a join that could come before it
-- application: season-report
-- send: literal
-- times: 3
-- values: []
SELECT b.buoy_id, b.name, b.kind, avg(r.value) AS mean, count(*) AS readings
FROM reading AS r
JOIN buoy AS b ON b.buoy_id = r.buoy_id
GROUP BY b.buoy_id, b.name, b.kind
ORDER BY mean DESC
