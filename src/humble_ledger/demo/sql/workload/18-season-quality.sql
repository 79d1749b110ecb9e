-- about: how many readings of the season were good
-- trouble: none: it wants nearly every row, so a full scan is right
-- application: season-report
-- send: literal
-- times: 2
-- values: [1]
SELECT count(*) AS good, avg(value) AS mean
FROM reading
WHERE quality = $1
