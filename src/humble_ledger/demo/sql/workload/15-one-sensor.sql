-- about: one sensor, asked for again and again by a loop in the application
-- trouble: the same small query sent hundreds of times
-- application: stock-list
-- send: prepared
-- count-up: 300
-- values: [1]
SELECT kind, unit, fitted_on
FROM sensor
WHERE sensor_id = $1
