"""Entries to Rich renderables; text, never control codes of our own."""
