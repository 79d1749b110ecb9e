"""Servers of our own, whatever the engine: who runs them, and what stops them when we are gone."""
