"""Plans of Oracle: as its display package prints them, and as rows of its views of plans."""
