"""The list of routes that a hosted object database's query planner gives for a query (SOQL)."""
