"""Skerry Watch: an invented cooperative whose database shows every kind of trouble once."""
