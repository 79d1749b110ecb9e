-- about: every alert with one code, the code sent as a number
-- trouble: a type mismatch that keeps an index from being used
-- application: correction-form
-- send: literal
-- times: 4
-- values: [1187, 1417]
-- values: [640, 2250]
SELECT alert_id, sensor_id, raised_at, code
FROM alert
WHERE sensor_id = $1 AND code = $2
