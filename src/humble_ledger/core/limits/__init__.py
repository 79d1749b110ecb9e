"""Limits: what a statement may take, proposed from its plans and held against new ones."""
