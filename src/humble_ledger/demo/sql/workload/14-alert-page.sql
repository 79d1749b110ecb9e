-- about: a page far down the list of alerts
-- trouble: deep paging
-- application: duty-desk
-- send: literal
-- times: 3
-- values: [41000]
-- values: [52000]
SELECT alert_id, buoy_id, raised_at, kind, message
FROM alert
ORDER BY raised_at DESC, alert_id DESC
LIMIT 50 OFFSET $1
