"""Entries to something to look at: terminal, JSON. Pure functions of core's dataclasses."""
