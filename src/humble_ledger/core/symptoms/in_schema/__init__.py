"""Symptoms of a schema: its indexes, foreign keys and statistics."""
