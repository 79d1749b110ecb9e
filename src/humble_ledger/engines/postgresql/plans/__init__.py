"""Plans as PostgreSQL writes them: four forms, one document, one tree."""
