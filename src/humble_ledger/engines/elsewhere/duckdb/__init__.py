"""Plans of DuckDB, as its EXPLAIN and its profiler write them as JSON."""
