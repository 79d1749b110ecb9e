"""Replaying: captured statements sent again by several clients, before and after a change."""
