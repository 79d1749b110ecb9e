-- about: keepers who visited a buoy that ever raised an alert of a kind
-- trouble: DISTINCT hiding a fan-out
-- application: crew-planner
-- send: literal
-- values: ["radio"]
SELECT DISTINCT k.keeper_id, k.name
FROM keeper AS k
JOIN visit AS v ON v.keeper_id = k.keeper_id
JOIN alert AS a ON a.buoy_id = v.buoy_id
WHERE a.kind = $1
