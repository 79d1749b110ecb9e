"""Replays: which statements are sent when, and what came of it second by second."""
