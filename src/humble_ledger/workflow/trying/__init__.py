"""Trying: before and after on the target itself, by the way it allows, leaving nothing."""
