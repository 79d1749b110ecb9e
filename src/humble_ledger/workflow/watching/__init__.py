"""Watching: capture and audit again and again, telling each change once."""
