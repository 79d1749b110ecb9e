"""PostgreSQL's published cost formulas and page layout."""
