-- about: the alerts of one day
-- trouble: a function over an indexed column
-- application: duty-desk
-- send: literal
-- times: 6
-- values: ["2026-03-14"]
-- values: ["2026-05-02"]
SELECT alert_id, buoy_id, kind, message
FROM alert
WHERE DATE(raised_at) = $1
