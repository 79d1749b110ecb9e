-- about: visits that began within two hours after alerts of one cause
-- trouble: a nested loop that explodes
-- application: crew-planner
-- send: literal
-- times: 2
-- values: ["hull", "cause-27", "crew-29"]
SELECT a.alert_id, v.visit_id, timestampdiff(MINUTE, a.raised_at, v.started_at) AS delay
FROM alert AS a
JOIN visit AS v ON v.started_at BETWEEN a.raised_at AND a.raised_at + INTERVAL 2 HOUR
WHERE a.kind = $1 AND a.cause = $2 AND a.crew = $3 AND a.raised_at >= '2026-06-20'
