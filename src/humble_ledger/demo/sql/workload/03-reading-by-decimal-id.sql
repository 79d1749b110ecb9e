-- about: one reading, its id sent as a decimal number
-- trouble: a type mismatch that keeps the primary key from being used
-- application: correction-form
-- send: literal
-- times: 4
-- values: [918273.0]
-- values: [271828.0]
SELECT reading_id, sensor_id, taken_at, value
FROM reading
WHERE reading_id = $1
