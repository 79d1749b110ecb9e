"""Computation only: nothing here knows a terminal, a server or a store."""
