-- about: every alert with one code
-- trouble: a composite index used from the wrong end
-- application: duty-desk
-- send: prepared
-- times: 5
-- values: ["E-1417"]
-- values: ["E-2250"]
SELECT alert_id, buoy_id, raised_at, status
FROM alert
WHERE code = $1
