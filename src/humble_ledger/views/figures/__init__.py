"""Entries as figures, drawn with Matplotlib."""
