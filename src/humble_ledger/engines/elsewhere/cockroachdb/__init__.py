"""Plans of CockroachDB, as its EXPLAIN and EXPLAIN ANALYZE print them."""
