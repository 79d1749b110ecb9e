-- about: all alerts for a spreadsheet
-- trouble: a sort that spills
-- application: season-report
-- send: literal
-- times: 3
-- values: []
SELECT alert_id, buoy_id, raised_at, kind, cause, crew, status, message
FROM alert
ORDER BY status, kind, message
