"""Rows expected against rows seen: how far off, and where it began."""
