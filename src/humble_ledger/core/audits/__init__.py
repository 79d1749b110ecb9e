"""Audits: what was found once, held against how things are now."""
