"""Servers' published formulas: what reading by an index costs, and how large it would be."""
