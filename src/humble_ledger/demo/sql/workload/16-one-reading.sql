-- about: one reading by its id
-- trouble: none: this query is fine
-- application: correction-form
-- send: prepared
-- times: 4
-- values: [918273]
-- values: [1400001]
SELECT reading_id, sensor_id, buoy_id, taken_at, value, quality
FROM reading
WHERE reading_id = $1
