"""PostgreSQL, versions 13 to 18."""
